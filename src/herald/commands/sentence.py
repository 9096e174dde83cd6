"""A scheduled command as one sentence. The only place that words it: one that is saved, and one that is composed."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime, time
from typing import Any

from herald.commands.models import CommandTemplate, FreezeChoice, LateChoice, OverlapChoice, Schedule, When
from herald.commands.templates import verb_phrase
from herald.groups.audience import audience_words, excluded_words, names_of, whom_in_words
from herald_core.parameters import parameter_words
from herald_core.text import Part, slot, word
from herald_core.timing.recurrence import Recurrence, RuleError, read_rule
from herald_core.timing.recurrence_words import day_words, end_words, recurrence_words
from herald_core.timing.windows import DEVICE_CLOCK

#: what a schedule, and the body of a draft, have by the same name
_SAME = (
    "template", "parameters", "when", "clock", "starts_on", "time_of_day", "rule", "excluded", "spread_minutes",
    "expires_after_minutes", "at_once_per_site", "freezes", "late", "overlap",
)  # fmt: skip
_FREEZES: Mapping[str, str] = {
    FreezeChoice.WAIT: "waiting for freezes to end",
    FreezeChoice.DROP: "leaving out devices in a freeze",
}
_LATE: Mapping[str, str] = {
    LateChoice.DROP: "missed by devices not back by then",
    LateChoice.RUN: "run when a late device is back",
}
_OVERLAP: Mapping[str, str] = {
    OverlapChoice.WAIT: "waiting for devices still at the last firing",
    OverlapChoice.SKIP: "leaving out devices still at the last firing",
}


@dataclass(frozen=True, kw_only=True)
class _Words:
    """What the sentence is made of. `time_of_day` and `starts_on` are local times; `made_on` is the day on which it
    was written, before which “from” needs no saying."""

    audience: str
    exclude: str
    made_on: date
    template: CommandTemplate
    parameters: Mapping[str, Any]
    when: str
    clock: str
    starts_on: date | None
    time_of_day: time | None
    rule: str
    excluded: list[str]
    spread_minutes: int
    expires_after_minutes: int
    at_once_per_site: int | None
    freezes: str
    late: str
    overlap: str


def schedule_sentence(schedule: Schedule) -> str:
    """“Restart Greenhouse controllers every day at 05:30 device time, spread over 20 minutes, …”"""
    return "".join(part["text"] for part in sentence_parts(schedule)) + "."


def sentence_parts(schedule: Schedule) -> list[Part]:
    """The sentence in pieces; `slot` names what a piece says, and is empty for the words between."""
    whom, but = audience_words(schedule) or "nobody yet", excluded_words(schedule)
    same = {name: getattr(schedule, name) for name in _SAME}
    return _parts(_Words(audience=whom, exclude=but, made_on=schedule.created_at.date(), **same))


def draft_parts(body: Mapping[str, Any], *, now: datetime) -> list[Part]:
    """The sentence of a command that is being composed, from the fields of its body; every slot is there."""
    devices = body["include_devices"]
    whom = whom_in_words(body["include"], len(devices), devices[0] if devices else "") or "which devices?"
    same = {name: body[name] for name in _SAME}
    said = _Words(audience=whom, exclude=names_of(body["exclude"]), made_on=now.date(), **same)
    return _parts(said, composing=True)


def _parts(said: _Words, *, composing: bool = False) -> list[Part]:
    what = said.template
    with_words = parameter_words(what.schema, said.parameters)
    parts = [slot("template", verb_phrase(what)), word(" "), slot("audience", said.audience)]
    if said.exclude or composing:
        parts += [word(" "), slot("exclude", f"without {said.exclude}" if said.exclude else "with no exclusions")]
    if what.schema.get("properties"):
        parts += [word(" "), slot("parameters", f"({with_words or 'which parameters?'})")]
    parts += [word(" "), slot("when", _when(said))]
    if skipped := len(said.excluded):
        words = f"without {skipped} firing{'s' if skipped > 1 else ''}"
        parts += [word(", "), slot("when", words)]
    parts += [word(", "), slot("spread", f"spread over {minutes_words(said.spread_minutes)}")]
    if said.at_once_per_site is not None:
        parts += [word(", "), slot("spread", f"at most {said.at_once_per_site} a site at once")]
    parts += [word(", "), slot("give_up", f"giving up after {minutes_words(said.expires_after_minutes)}")]
    if composing or said.late != LateChoice.DROP:
        parts += [word(", "), slot("late", _LATE[said.late])]
    if end := _end(said):
        parts += [word(", "), slot("when", end)]
    if composing or said.freezes != FreezeChoice.WAIT:
        parts += [word(", "), slot("freezes", _FREEZES[said.freezes])]
    if said.when != When.NOW and (composing or said.overlap != OverlapChoice.WAIT):
        parts += [word(", "), slot("overlap", _OVERLAP[said.overlap])]
    return parts


def _recurrence(said: _Words) -> Recurrence | None:
    if said.time_of_day is None or (said.when == When.REPEAT and not said.rule):
        return None
    start = datetime.combine(said.starts_on or said.made_on, said.time_of_day)
    try:
        return Recurrence(start=start, rule=read_rule(said.rule) if said.rule else "")
    except RuleError:
        return None


def _when(said: _Words) -> str:
    if said.when == When.NOW:
        return "now"
    if said.time_of_day is None:
        return "at which time?"
    recurrence = _recurrence(said)
    if recurrence is None:
        return "how often?"
    clock = "device time" if said.clock == DEVICE_CLOCK else f"{said.clock.split('/')[-1].replace('_', ' ')} time"
    words = f"{recurrence_words(recurrence)} {clock}"
    if said.rule and said.starts_on and said.starts_on > said.made_on:
        words += f" from {day_words(said.starts_on)}"
    return words


def _end(said: _Words) -> str:
    recurrence = _recurrence(said)
    return end_words(recurrence) if recurrence and said.rule else ""


def minutes_words(minutes: int) -> str:
    """Minutes in words: 20 minutes, 2 hours, 1 h 30 min, 3 days."""
    hours, rest = divmod(minutes, 60)
    if not hours:
        return f"{rest} minute{'s' if rest != 1 else ''}"
    if rest:
        return f"{hours} h {rest} min"
    if hours >= 48 and hours % 24 == 0:
        return f"{hours // 24} days"
    return f"{hours} hour{'s' if hours != 1 else ''}"
