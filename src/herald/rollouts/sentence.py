"""A rollout as one sentence, which says exactly what will happen."""

from datetime import time

from herald.groups.audience import audience_words, names_of
from herald.rollouts.models import ChangeRow, Rollout
from herald_core.changes import Choice

_DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
_NAMED = 2  # so many targets are named; more are counted


def rollout_sentence(rollout: Rollout) -> str:
    """“Put Sill 5.2.1 on Field gateways, in 3 rings, 01:00–04:30 device time, stopping at 2% failures.”"""
    return "".join(part["text"] for part in sentence_parts(rollout)) + "."


def sentence_parts(rollout: Rollout) -> list[dict[str, str]]:
    """The sentence in pieces; `slot` names what a piece says, and is empty for the words between."""
    include, exclude = audience_words(rollout), names_of(rollout.exclude.all())
    if rollout.puts_back_id is not None:
        parts = [
            _word("Put back "),
            _slot("change", "the version each had"),
            _word(" on "),
            _slot("audience", f"the devices that rollout {rollout.puts_back_id} changed"),
        ]
    else:
        parts = [_word("Put "), _slot("change", target_words(rollout) or "which version?"), _word(" on ")]
        parts.append(_slot("audience", include or "nobody yet"))
    if rollout.only_rule:
        parts += [_word(", only those with "), _slot("audience", rollout.only_rule)]
    if exclude:
        parts += [_word(" "), _slot("exclude", f"without {exclude}")]
    count = len(rollout.rings.all())
    parts += [_word(", in "), _slot("rings", f"{count} ring{'s' if count != 1 else ''}"), _word(", ")]
    parts.append(_slot("window", window_words(rollout)))
    if rollout.stage_ahead:
        parts += [_word(", "), _slot("window", staging_words(rollout))]
    if rollout.spread_minutes:
        parts += [_word(", "), _slot("limit", f"starts spread over {rollout.spread_minutes} min")]
    parts += [_word(", stopping at "), _slot("limit", f"{rollout.failure_limit_pct:g}% failures")]
    for slot, text in _choices(rollout):
        parts += [_word(", "), _slot(slot, text)]
    return parts


def _choices(rollout: Rollout) -> list[tuple[str, str]]:
    """What else was chosen that a reader would not expect, each with its slot."""
    site, hour = rollout.at_once_per_site, rollout.starts_per_hour
    chosen = [
        ("audience", "following its audience", rollout.standing),
        ("change", "downgrading where that is needed", rollout.downgrades),
        ("limit", f"at most {site} at once per site", site is not None),
        ("limit", f"at most {hour} starts per hour", hour is not None),
        ("limit", _override(rollout), bool(rollout.freeze_override)),
        ("limit", f"showing “{rollout.notice}” first", bool(rollout.notice)),
    ]
    return [(slot, text) for slot, text, is_chosen in chosen if is_chosen]


def _override(rollout: Rollout) -> str:
    waits = "" if rollout.ignores_freezes else "; not in force before somebody approves"
    return f"through freezes ({rollout.freeze_override}{waits})"


def target_words(rollout: Rollout) -> str:
    """What devices are to run in the end: “Sill 5.2.1”, “the newest approved”, “3 versions”."""
    words = list(dict.fromkeys(w for c in rollout.changes.all() if (w := _target(c))))
    return " and ".join(words) if len(words) <= _NAMED else f"{len(words)} versions"


def _target(change: ChangeRow) -> str:
    match Choice(change.choice):
        case Choice.IMAGE:
            return str(change.image)
        case Choice.NEWEST:
            return "the newest approved"
        case Choice.WITHIN:
            return f"the newest {change.within}"
        case Choice.LEAVE_OUT:
            return ""


def short_words(rollout: Rollout) -> str:
    """What it is about, for lists and for the record: “Sill 5.2.1”, “The versions from before rollout 7”."""
    if rollout.puts_back_id is not None:
        return f"The versions from before rollout {rollout.puts_back_id}"
    return target_words(rollout) or "no version yet"


def window_words(rollout: Rollout) -> str:
    """The hours in words, with their clock and the day from which."""
    start = f" from {rollout.starts_at:%-d %b %H:%M} UTC" if rollout.starts_at else ""
    if rollout.window_start is None or rollout.window_end is None:
        return f"at any hour{start}"
    days = ", ".join(_DAYS[d] for d in sorted(rollout.window_days)) if rollout.window_days else "daily"
    return f"{days} {_hm(rollout.window_start)}–{_hm(rollout.window_end)} device time{start}"


def staging_words(rollout: Rollout) -> str:
    """When files come ahead of the window."""
    if rollout.staging_start is None or rollout.staging_end is None:
        return "fetching files ahead"
    return f"fetching files ahead {_hm(rollout.staging_start)}–{_hm(rollout.staging_end)}"


def _hm(value: time) -> str:
    return f"{value:%H:%M}"


def _word(text: str) -> dict[str, str]:
    return {"slot": "", "text": text}


def _slot(slot: str, text: str) -> dict[str, str]:
    return {"slot": slot, "text": text}
