"""A scheduled command as one sentence. The only place that words it: one that is saved, and one that is composed."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, time
from typing import Any

from herald.commands.models import CommandTemplate, FreezeChoice, Schedule, When
from herald.groups.audience import audience_words, names_of, whom_in_words

Part = dict[str, str]
_FREEZES = {
    FreezeChoice.WAIT: "waiting for freezes to end",
    FreezeChoice.DROP: "leaving out devices in a freeze",
}


@dataclass(frozen=True, kw_only=True)
class _Words:
    """What the sentence is made of. `time_of_day`, `starts_on` and `until` are by the devices' own clocks."""

    template: CommandTemplate
    audience: str
    exclude: str
    when: When
    time_of_day: time | None
    starts_on: date | None
    until: date | None
    spread_minutes: int
    expires_after_minutes: int
    freezes: FreezeChoice


def schedule_sentence(schedule: Schedule) -> str:
    """“Restart Greenhouse controllers every day at 05:30 device time, spread over 20 minutes, …”"""
    return "".join(part["text"] for part in sentence_parts(schedule)) + "."


def sentence_parts(schedule: Schedule) -> list[Part]:
    """The sentence in pieces; `slot` names what a piece says, and is empty for the words between."""
    said = _Words(
        template=CommandTemplate(schedule.template),
        audience=audience_words(schedule) or "nobody yet",
        exclude=names_of(schedule.exclude.all()),
        when=When(schedule.when),
        time_of_day=schedule.time_of_day,
        starts_on=schedule.starts_on,
        until=schedule.until,
        spread_minutes=schedule.spread_minutes,
        expires_after_minutes=schedule.expires_after_minutes,
        freezes=FreezeChoice(schedule.freezes),
    )
    return _parts(said)


def draft_parts(body: Mapping[str, Any]) -> list[Part]:
    """The sentence of a command that is being composed, from the fields of its body; every slot is there."""
    devices = body["include_devices"]
    said = _Words(
        template=CommandTemplate(body["template"]),
        audience=whom_in_words(body["include"], len(devices), devices[0] if devices else "") or "which devices?",
        exclude=names_of(body["exclude"]),
        when=When(body["when"]),
        time_of_day=body["time_of_day"],
        starts_on=body["starts_on"],
        until=body["until"],
        spread_minutes=body["spread_minutes"],
        expires_after_minutes=body["expires_after_minutes"],
        freezes=FreezeChoice(body["freezes"]),
    )
    return _parts(said, composing=True)


def _parts(said: _Words, *, composing: bool = False) -> list[Part]:
    what = said.template.label
    # there is one kind of command yet, so composing has nothing to choose there
    parts = [_word(what) if composing else _slot("template", what), _word(" "), _slot("audience", said.audience)]
    if said.exclude or composing:
        exclude = f"without {said.exclude}" if said.exclude else "with no exclusions"
        parts += [_word(" "), _slot("exclude", exclude)]
    parts += [_word(" "), _slot("when", _when(said)), _word(", ")]
    parts += [_slot("spread", f"spread over {minutes_words(said.spread_minutes)}"), _word(", ")]
    parts += [_slot("give_up", f"giving up after {minutes_words(said.expires_after_minutes)}")]
    if said.until:
        parts += [_word(", "), _slot("when" if composing else "until", f"until {said.until:%-d %b %Y}")]
    if composing:
        parts += [_word(", "), _slot("freezes", _FREEZES[said.freezes])]
    return parts


def _word(text: str) -> Part:
    return {"slot": "", "text": text}


def _slot(slot: str, text: str) -> Part:
    return {"slot": slot, "text": text}


def _when(said: _Words) -> str:
    if said.when == When.NOW:
        return "now"
    if said.time_of_day is None:
        return "at which time?"
    start = f" from {said.starts_on:%-d %b %Y}" if said.starts_on else ""
    return f"every day at {said.time_of_day:%H:%M} device time{start}"


def minutes_words(minutes: int) -> str:
    """Minutes in words: 20 minutes, 2 hours, 1 h 30 min."""
    hours, rest = divmod(minutes, 60)
    if not hours:
        return f"{rest} minute{'s' if rest != 1 else ''}"
    if rest:
        return f"{hours} h {rest} min"
    return f"{hours} hour{'s' if hours != 1 else ''}"
