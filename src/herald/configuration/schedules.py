"""Scheduled commands as documents: those that come again and again, have a name of their own, and are for groups.

What runs now or once is an act and no configuration. A destructive command wants its devices counted and a second
person, so files make none, and leave those that are there alone.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, time
from typing import Any

from herald.commands import compose
from herald.commands.models import CommandTemplate, Schedule, When
from herald.commands.models import ScheduleState as State
from herald.commands.reach import audience_of, reached_now
from herald.commands.services import set_state
from herald.configuration.lookups import Hand, named
from herald.groups.models import Group
from herald.http.errors import Conflict, Invalid
from herald_core.actions import Harm
from herald_core.configuration import Difference, Document, Verb, repeated
from herald_core.parameters import HIDDEN, filled, shown
from herald_core.timing.recurrence import RuleError, read_rule

KEY = "schedules"
#: what a document and a schedule have by the same name and in the same form
_SAME = (
    "name", "reason", "ticket", "clock", "rule", "spread_minutes", "expires_after_minutes", "max_concurrent",
    "at_once_per_site", "freezes", "late", "overlap",
)  # fmt: skip


@dataclass(frozen=True, kw_only=True)
class Fires:
    """When a command that is new or changed fires next, and on how many devices it would now."""

    name: str
    devices: int
    at: datetime | None


def read() -> list[dict[str, Any]]:
    """The scheduled commands that are kept as files, by name."""
    return [
        {
            **{f: getattr(s, f) for f in _SAME},
            "template": s.template.name,
            "parameters": shown(s.template.schema, s.parameters),
            "include": sorted(g.name for g in s.include.all()),
            "exclude": sorted(g.name for g in s.exclude.all()),
            "starts_on": s.starts_on.isoformat() if s.starts_on else None,
            "time_of_day": f"{s.time_of_day:%H:%M}" if s.time_of_day else None,
            "excluded": sorted(s.excluded),
        }
        for s in _kept()
    ]


def normal(document: dict[str, Any]) -> dict[str, Any]:
    """A whole document in the one form in which it is compared.

    Raises:
        Invalid: a day, a time or a rule cannot be read.
    """
    template = CommandTemplate.objects.filter(name=document["template"]).first()
    parameters = filled(template.schema, document["parameters"]) if template else document["parameters"]
    read: dict[str, Any] = {"parameters": parameters}
    try:
        read["rule"] = read_rule(document["rule"])
    except RuleError as error:
        raise Invalid("/rule", str(error)) from error
    try:
        read["starts_on"] = date.fromisoformat(document["starts_on"]).isoformat()
    except ValueError as error:
        raise Invalid("/starts_on", "A day is expected, like 2026-12-24.") from error
    try:
        read["time_of_day"] = f"{time.fromisoformat(document['time_of_day']):%H:%M}"
    except ValueError as error:
        raise Invalid("/time_of_day", "A time of day is expected, like 05:30.") from error
    return {**document, **read, **{k: sorted(set(document[k])) for k in ("include", "exclude", "excluded")}}


def save(document: Document, by: Hand, schedule: Schedule | None = None) -> None:
    """Write a scheduled command down, new or in place of what it was."""
    template = CommandTemplate.objects.filter(name=document["template"], retired_at=None).first()
    if template is None:
        raise Invalid("/template", f"There is no command “{document['template']}”.")
    if template.harm == Harm.DESTRUCTIVE:
        raise Invalid("/template", "A destructive command is scheduled on its page: it wants its devices counted.")
    if schedule is None and HIDDEN in document["parameters"].values():
        raise Invalid("/parameters", "A secret is kept in no file; schedule this on its page.")
    draft = compose.ScheduleDraft(
        **{f: document[f] for f in _SAME},
        template=template,
        parameters=document["parameters"],
        include=_groups(document, "include"),
        exclude=_groups(document, "exclude"),
        when=When.REPEAT,
        starts_on=date.fromisoformat(document["starts_on"]),
        time_of_day=time.fromisoformat(document["time_of_day"]),
        excluded=document["excluded"],
    )
    if schedule is None:
        if Schedule.objects.exclude(state=State.ENDED).filter(name=document["name"]).exists():
            raise Conflict("A scheduled command that is not kept as files has this name; choose another.")
        compose.create_schedule(draft, actor=by.actor, now=by.now)
    else:
        compose.change_schedule(schedule, draft, revision=schedule.revision, actor=by.actor, now=by.now)


def change(name: str, document: Document, by: Hand) -> None:
    """Change one."""
    save(document, by, _named(name))


def end(name: str, by: Hand) -> None:
    """End one for good."""
    set_state(_named(name), State.ENDED, actor=by.actor, now=by.now)


def fires_of(differences: Sequence[Difference], now: datetime) -> list[Fires]:
    """When each that was added or changed fires next, as it is now."""
    found = []
    for difference in differences:
        if difference.kind != KEY or difference.verb is Verb.DELETE:
            continue
        draft = compose.draft_of(_named(difference.name))
        zones = audience_of(draft).able.value_counts("time_zone", 100)
        ahead = [z.firings[0].at for z in compose.firings_by_zone(draft, zones, now=now, count=1) if z.firings]
        devices = reached_now(draft, now=now)
        found.append(Fires(name=difference.name, devices=devices, at=min(ahead, default=None)))
    return found


def _kept() -> list[Schedule]:
    going = Schedule.objects.exclude(state=State.ENDED).filter(when=When.REPEAT, devices=None).exclude(name="")
    rows = list(
        going.exclude(template__harm=Harm.DESTRUCTIVE.value)
        .select_related("template")
        .prefetch_related("include", "exclude")
        .order_by("name")
    )
    # which of two with one name is meant, no file can say
    taken = Schedule.objects.exclude(state=State.ENDED).values_list("name", flat=True)
    twice = set(repeated(list(taken)))
    return [s for s in rows if s.name not in twice]


def _named(name: str) -> Schedule:
    return next(s for s in _kept() if s.name == name)


def _groups(document: Document, key: str) -> list[Any]:
    return [named(Group, name, f"/{key}/{n}") for n, name in enumerate(document[key])]
