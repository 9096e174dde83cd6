"""A rollout as one sentence, which says exactly what will happen. The only place that words it: a launched rollout, a
draft that is kept, and one that is being composed are all said here."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, time

from herald_core.text import Part, slot, word

DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
_NAMED = 2  # so many targets are named; more are counted

Hours = tuple[time, time]


@dataclass(frozen=True, kw_only=True)
class RolloutWords:
    """What the sentence of a rollout is made of. `targets` are what devices are to run in the end, `audience` and
    `exclude` groups and devices in words, `window` and `prefetch_hours` by the devices' own clocks, weekdays from
    Monday 0; `starts_at` is aware, in UTC. `rolls_back` is the rollout whose devices get the versions from before it.
    """

    targets: Sequence[str] = ()
    audience: str = ""
    exclude: str = ""
    rolls_back: int | None = None
    rule_filter: str = ""
    rings: int = 0
    window: Hours | None = None
    days: Sequence[int] = ()
    starts_at: datetime | None = None
    prefetch: bool = False
    prefetch_hours: Hours | None = None
    spread_minutes: int = 0
    failure_limit_pct: float = 0.0
    follows_audience: bool = False
    downgrades: bool = False
    max_concurrent_per_site: int | None = None
    max_starts_per_hour: int | None = None
    freeze_override_reason: str = ""
    ignores_freezes: bool = False
    notice: str = ""
    ends_at: datetime | None = None
    defer_times: int | None = None
    defer_until: datetime | None = None


def sentence_parts(said: RolloutWords, *, composing: bool = False) -> list[Part]:
    """The sentence in pieces; `slot` names what a piece says, and is empty for the words between. While it is composed
    every slot is there, with a question where nothing was chosen."""
    if said.rolls_back is not None:
        parts = [
            word("Roll back to "),
            slot("change", "the version each had"),
            word(" on "),
            slot("audience", f"the devices that rollout {said.rolls_back} changed"),
        ]
    else:
        parts = [word("Put "), slot("change", target_words(said.targets) or "which version?"), word(" on ")]
        parts.append(slot("audience", said.audience or ("which devices?" if composing else "no device yet")))
    if said.rule_filter:
        parts += [word(", only those with "), slot("audience", said.rule_filter)]
    if said.exclude or composing:
        parts += [word(" "), slot("exclude", f"without {said.exclude}" if said.exclude else "with no exclusions")]
    parts += [word(", in "), slot("rings", f"{said.rings} ring{'s' if said.rings != 1 else ''}"), word(", ")]
    parts.append(slot("window", window_words(said)))
    if said.prefetch:
        parts += [word(", "), slot("window", prefetch_words(said))]
    if said.spread_minutes:
        parts += [word(", "), slot("limit", f"starts spread over {said.spread_minutes} min")]
    parts += [word(", stopping at "), slot("limit", f"{said.failure_limit_pct:g}% failures")]
    for which, text in _choices(said):
        parts += [word(", "), slot(which, text)]
    return parts


def sentence(said: RolloutWords) -> str:
    """“Put Sill 5.2.1 on Field gateways, in 3 rings, 01:00–04:30 device time, stopping at 2% failures.”"""
    return "".join(part["text"] for part in sentence_parts(said)) + "."


def target_words(targets: Sequence[str]) -> str:
    """What devices are to run in the end: “Sill 5.2.1”, “the newest approved”, “3 versions”."""
    distinct = list(dict.fromkeys(targets))
    return " and ".join(distinct) if len(distinct) <= _NAMED else f"{len(distinct)} versions"


def window_words(said: RolloutWords) -> str:
    """The hours in words, with their clock and the day from which."""
    start = f" from {_moment(said.starts_at)}" if said.starts_at else ""
    if said.window is None:
        return f"at any hour{start}"
    days = ", ".join(DAYS[d] for d in sorted(said.days)) if said.days else "daily"
    return f"{days} {_hours(said.window)} device time{start}"


def prefetch_words(said: RolloutWords) -> str:
    """When files come ahead of the window."""
    if said.prefetch_hours is None:
        return "fetching files ahead"
    return f"fetching files ahead {_hours(said.prefetch_hours)}"


def _choices(said: RolloutWords) -> list[tuple[str, str]]:
    """What else was chosen that a reader would not expect, each with its slot."""
    site, hour = said.max_concurrent_per_site, said.max_starts_per_hour
    waits = "" if said.ignores_freezes else "; not in force before somebody approves"
    chosen = [
        ("audience", "following its audience", said.follows_audience),
        ("change", "downgrading where that is needed", said.downgrades),
        ("limit", f"at most {site} at once per site", site is not None),
        ("limit", f"at most {hour} starts per hour", hour is not None),
        ("limit", f"through freezes ({said.freeze_override_reason}{waits})", bool(said.freeze_override_reason)),
        ("limit", f"showing “{said.notice}” first", bool(said.notice)),
        ("limit", _deferral(said), bool(said.defer_times or said.defer_until)),
        ("window", f"ending {_moment(said.ends_at)}" if said.ends_at else "", said.ends_at is not None),
    ]
    return [(which, text) for which, text, is_chosen in chosen if is_chosen]


def _deferral(said: RolloutWords) -> str:
    times = {None: "", 1: " once"}.get(said.defer_times, f" {said.defer_times} times")
    until = f" until {_moment(said.defer_until)}" if said.defer_until else ""
    return f"which may be put off{times}{until}"


def _moment(moment: datetime) -> str:
    return f"{moment:%-d %b %H:%M} UTC"


def _hours(hours: Hours) -> str:
    return f"{hours[0]:%H:%M}–{hours[1]:%H:%M}"
