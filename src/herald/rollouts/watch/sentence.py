"""A rollout's sentence: what the core words, gathered from a rollout that is kept or from a draft being composed."""

from collections.abc import Mapping
from typing import Any

from herald.groups.audience import audience_words, excluded_words, names_of, whom_in_words
from herald.images.models import Image
from herald.rollouts.models import Rollout, RolloutState
from herald_core.changes import Choice
from herald_core.rollouts import sentence as core
from herald_core.rollouts.sentence import RolloutWords
from herald_core.text import Part

#: what a rollout, and the body of a draft, have by the same name
_SAME = (
    "rule_filter",
    "starts_at",
    "prefetch",
    "spread_minutes",
    "failure_limit_pct",
    "follows_audience",
    "downgrades",
    "max_concurrent_per_site",
    "max_starts_per_hour",
    "freeze_override_reason",
    "notice",
    "ends_at",
    "defer_times",
    "defer_until",
)


def rollout_sentence(rollout: Rollout) -> str:
    """“Put Sill 5.2.1 on Field gateways, in 3 rings, 01:00–04:30 device time, stopping at 2% failures.”"""
    return core.sentence(_words_of(rollout))


def sentence_parts(rollout: Rollout) -> list[Part]:
    """The sentence in pieces; `slot` names what a piece says, and is empty for the words between."""
    return core.sentence_parts(_words_of(rollout), composing=rollout.state == RolloutState.DRAFT)


def draft_parts(body: Mapping[str, Any]) -> list[Part]:
    """The sentence of a draft that is being composed, from the fields of its body that it needs: the groups and images
    themselves, the devices as they were typed, `ring_count` rings."""
    devices = body["include_devices"]
    said = RolloutWords(
        targets=[w for c in body["changes"] if (w := _target(c["choice"], c["image_id"], c["within"]))],
        audience=whom_in_words(body["include"], len(devices), devices[0] if devices else ""),
        exclude=names_of(body["exclude"]),
        rolls_back=body["rolls_back_id"],
        rings=body["ring_count"],
        window=_hours(body["window_start"], body["window_end"]),
        days=body["window_days"],
        prefetch_hours=_hours(body["prefetch_start"], body["prefetch_end"]),
        **{name: body[name] for name in _SAME},
    )
    return core.sentence_parts(said, composing=True)


def target_words(rollout: Rollout) -> str:
    """What devices are to run in the end: “Sill 5.2.1”, “the newest approved”, “3 versions”."""
    return core.target_words(_targets(rollout))


def short_words(rollout: Rollout) -> str:
    """What it is about, for lists and for the record: “Sill 5.2.1”, “The versions from before rollout 7”."""
    if rollout.rolls_back_id is not None:
        return f"The versions from before rollout {rollout.rolls_back_id}"
    return target_words(rollout) or "no version yet"


def title_of(rollout: Rollout) -> str:
    """What people call it, or else what it is about."""
    return rollout.name or short_words(rollout)


def _words_of(rollout: Rollout) -> RolloutWords:
    return RolloutWords(
        targets=_targets(rollout),
        audience=audience_words(rollout),
        exclude=excluded_words(rollout),
        rolls_back=rollout.rolls_back_id,
        rings=len(rollout.rings.all()),
        window=_hours(rollout.window_start, rollout.window_end),
        days=rollout.window_days,
        prefetch_hours=_hours(rollout.prefetch_start, rollout.prefetch_end),
        ignores_freezes=rollout.ignores_freezes,
        **{name: getattr(rollout, name) for name in _SAME},
    )


def _targets(rollout: Rollout) -> list[str]:
    return [w for c in rollout.changes.all() if (w := _target(c.choice, c.image, c.within))]


def _target(choice: str, image: Image | None, within: str) -> str:
    match Choice(choice):
        case Choice.IMAGE:
            return str(image) if image else ""
        case Choice.NEWEST:
            return "the newest approved"
        case Choice.WITHIN:
            return f"the newest {within}"
        case Choice.LEAVE_OUT:
            return ""


def _hours(start: Any, end: Any) -> tuple[Any, Any] | None:
    return None if start is None or end is None else (start, end)
