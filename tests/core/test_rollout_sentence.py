"""The sentence of a rollout: what it says of much, of little, and of nothing."""

from dataclasses import replace
from datetime import UTC, datetime, time

import pytest

from herald_core.rollouts.sentence import RolloutWords, sentence, sentence_parts

WHOLE = RolloutWords(
    targets=["Sill 5.2.1"],
    audience="Field gateways",
    exclude="Spares",
    rings=3,
    window=(time(1), time(4, 30)),
    spread_minutes=15,
    failure_limit_pct=2.0,
)


def text(said: RolloutWords) -> str:
    return "".join(p["text"] for p in sentence_parts(said, composing=True))


def test_it_reads_as_one_sentence() -> None:
    assert sentence(WHOLE) == (
        "Put Sill 5.2.1 on Field gateways without Spares, in 3 rings, daily 01:00–04:30 device time, "
        "starts spread over 15 min, stopping at 2% failures."
    )


def test_while_composing_it_asks_for_what_is_missing_and_has_a_slot_for_everything() -> None:
    parts = sentence_parts(RolloutWords(failure_limit_pct=2.5), composing=True)
    said = "".join(p["text"] for p in parts)
    assert said == (
        "Put which version? on which devices? with no exclusions, in 0 rings, at any hour, stopping at 2.5% failures"
    )
    assert {p["slot"] for p in parts} == {"", "change", "audience", "exclude", "rings", "window", "limit"}
    assert "exclusions" not in sentence(RolloutWords()), "what was launched says only what was chosen"


@pytest.mark.parametrize(
    ("said", "words"),
    [
        ({"targets": ["A", "A", "B"]}, "Put A and B on"),
        ({"targets": ["A", "B", "C"]}, "Put 3 versions on"),
        ({"rolls_back": 7}, "Roll back to the version each had on the devices that rollout 7 changed"),
        ({"rule_filter": "site = Kiln"}, "on Field gateways, only those with site = Kiln without Spares"),
        ({"rings": 1}, "in 1 ring, "),
        ({"days": [4, 0]}, "Mon, Fri 01:00–04:30 device time"),
        ({"starts_at": datetime(2026, 11, 3, 5, tzinfo=UTC)}, "device time from 3 Nov 05:00 UTC"),
        ({"prefetch": True}, "fetching files ahead, starts"),
        ({"prefetch": True, "prefetch_hours": (time(8), time(20))}, "fetching files ahead 08:00–20:00, starts"),
        ({"max_concurrent_per_site": 0}, "at most 0 at once per site"),
        ({"freeze_override_reason": "frost"}, "through freezes (frost; not in force before somebody approves)"),
        ({"freeze_override_reason": "frost", "ignores_freezes": True}, "through freezes (frost)"),
        ({"notice": "Reboots"}, "showing “Reboots” first"),
        ({"notice": "Reboots", "defer_times": 1}, "first, which may be put off once"),
        (
            {"notice": "Reboots", "defer_times": 3, "defer_until": datetime(2026, 11, 5, 5, tzinfo=UTC)},
            "first, which may be put off 3 times until 5 Nov 05:00 UTC",
        ),
        ({"notice": "R", "defer_until": datetime(2026, 11, 5, 5, tzinfo=UTC)}, "put off until 5 Nov 05:00 UTC"),
        ({"ends_at": datetime(2026, 12, 1, 18, tzinfo=UTC)}, "2% failures, ending 1 Dec 18:00 UTC"),
        ({"follows_audience": True, "downgrades": True}, "following its audience, downgrading where that is needed"),
    ],
)
def test_it_says_what_was_chosen(said: dict[str, object], words: str) -> None:
    assert words in text(replace(WHOLE, **said))  # type: ignore[arg-type]
