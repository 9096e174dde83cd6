"""Preflight: the first reason that applies, the most fundamental first."""

from dataclasses import replace

import pytest

from herald_core.preflight import TAKES_PART, WORDS, Candidate, ImageNeeds, Outcome, Preflight
from herald_core.versions import version_key

NEEDS = ImageNeeds(
    version="5.2.1",
    models=frozenset({1, 2}),
    hardware_revisions=frozenset({"B", "C"}),
    min_version="5.0.0",
    free_space_mb=32,
    min_battery_pct=25,
)
READY = Candidate(1, 1, "B", version_key("5.1.4"), "admitted", False, 100, 80, False, False)


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        ({}, Outcome.STRAIGHT),
        ({"admission": "retired"}, Outcome.RETIRED),
        ({"admission": "waiting"}, Outcome.NOT_ADMITTED),
        ({"model_id": 9}, Outcome.NO_IMAGE),
        ({"hardware_revision": "A"}, Outcome.WRONG_HARDWARE),
        ({"firmware_key": None}, Outcome.NO_VERSION),
        ({"firmware_key": version_key("v5.2.1.0")}, Outcome.ALREADY),
        ({"firmware_key": version_key("5.3")}, Outcome.DOWNGRADE),
        ({"firmware_key": version_key("4.9.2")}, Outcome.NO_PATH),
        ({"firmware_key": version_key("5.0.0")}, Outcome.STRAIGHT),
        ({"free_space_mb": 31.9}, Outcome.NO_SPACE),
        ({"free_space_mb": None}, Outcome.STRAIGHT),
        ({"battery_pct": 24}, Outcome.LOW_POWER),
        ({"battery_pct": 24, "on_mains": True}, Outcome.STRAIGHT),
        ({"silent": True}, Outcome.LATE),
        ({"in_hand": True}, Outcome.PROMISED),
        ({"admission": "retired", "model_id": 9, "silent": True}, Outcome.RETIRED),
    ],
)
def test_outcomes(change: dict[str, object], expected: Outcome) -> None:
    assert Preflight(NEEDS).outcome(replace(READY, **change)) is expected  # type: ignore[arg-type]


def test_every_outcome_has_words_and_a_known_side() -> None:
    assert set(WORDS) == set(Outcome)
    assert set(Outcome) > TAKES_PART
    for outcome in Outcome:
        assert WORDS[outcome].startswith("left out") is (outcome not in TAKES_PART | {Outcome.ALREADY})


def test_a_highest_version_bounds_the_step() -> None:
    check = Preflight(replace(NEEDS, max_version="5.1.0"))
    assert check.outcome(READY) is Outcome.NO_PATH
