"""A scheduled command as one sentence. The only place that words it: one that is saved, and one that is composed."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, time
from typing import Any

from herald.commands.models import CommandTemplate, FreezeChoice, Schedule, When
from herald.groups.audience import audience_words, names_of, whom_in_words
from herald_core.text import Part, slot, word

#: what a schedule, and the body of a draft, have by the same name
_SAME = (
    "template",
    "when",
    "time_of_day",
    "starts_on",
    "until",
    "spread_minutes",
    "expires_after_minutes",
    "freezes",
)
_FREEZES: dict[str, str] = {
    FreezeChoice.WAIT: "waiting for freezes to end",
    FreezeChoice.DROP: "leaving out devices in a freeze",
}


@dataclass(frozen=True, kw_only=True)
class _Words:
    """What the sentence is made of. `time_of_day`, `starts_on` and `until` are by the devices' own clocks."""

    audience: str
    exclude: str
    template: str
    when: str
    time_of_day: time | None
    starts_on: date | None
    until: date | None
    spread_minutes: int
    expires_after_minutes: int
    freezes: str


def schedule_sentence(schedule: Schedule) -> str:
    """“Restart Greenhouse controllers every day at 05:30 device time, spread over 20 minutes, …”"""
    return "".join(part["text"] for part in sentence_parts(schedule)) + "."


def sentence_parts(schedule: Schedule) -> list[Part]:
    """The sentence in pieces; `slot` names what a piece says, and is empty for the words between."""
    whom, but = audience_words(schedule) or "nobody yet", names_of(schedule.exclude.all())
    return _parts(_Words(audience=whom, exclude=but, **{name: getattr(schedule, name) for name in _SAME}))


def draft_parts(body: Mapping[str, Any]) -> list[Part]:
    """The sentence of a command that is being composed, from the fields of its body; every slot is there."""
    devices = body["include_devices"]
    whom = whom_in_words(body["include"], len(devices), devices[0] if devices else "") or "which devices?"
    said = _Words(audience=whom, exclude=names_of(body["exclude"]), **{name: body[name] for name in _SAME})
    return _parts(said, composing=True)


def _parts(said: _Words, *, composing: bool = False) -> list[Part]:
    what = CommandTemplate(said.template).label
    # there is one kind of command yet, so composing has nothing to choose there
    parts = [word(what) if composing else slot("template", what), word(" "), slot("audience", said.audience)]
    if said.exclude or composing:
        parts += [word(" "), slot("exclude", f"without {said.exclude}" if said.exclude else "with no exclusions")]
    parts += [word(" "), slot("when", _when(said)), word(", ")]
    parts += [slot("spread", f"spread over {minutes_words(said.spread_minutes)}"), word(", ")]
    parts += [slot("give_up", f"giving up after {minutes_words(said.expires_after_minutes)}")]
    if said.until:
        parts += [word(", "), slot("when" if composing else "until", f"until {said.until:%-d %b %Y}")]
    if composing:
        parts += [word(", "), slot("freezes", _FREEZES[said.freezes])]
    return parts


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
