"""Whom commands are for at this moment: one in the editor, one that is saved, and many at once."""

from collections import Counter, defaultdict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache
from typing import TYPE_CHECKING, Any, Protocol

from django.db.models import Count, IntegerField, Q, Value, prefetch_related_objects

from herald.calendar.services import freezes_between, held_by
from herald.commands.models import CommandTemplate, FreezeChoice, Schedule
from herald.commands.templates import cannot, cannot_rule
from herald.groups.audience import audience_query, audience_rule, members_of, named_by
from herald.groups.models import GroupMembership
from herald_core.actions import Harm

if TYPE_CHECKING:
    from herald.commands.compose import ScheduleDraft
    from herald.fleet.querysets import DeviceQuerySet


@dataclass(frozen=True, kw_only=True)
class Audience:
    """The admitted devices of a command's groups: those whose firmware can do it, and those whose cannot."""

    able: "DeviceQuerySet"
    unable: "DeviceQuerySet"


def audience_of(draft: "ScheduleDraft") -> Audience:
    """Whom a command is for at this moment."""
    return audience_among(draft.template, members_of(draft.include, draft.exclude, draft.devices))


def audience_among(template: CommandTemplate, devices: "DeviceQuerySet") -> Audience:
    """Those of some devices that are admitted, by whether their firmware can do it."""
    admitted = devices.filter(admission="admitted")
    unable = cannot(template)
    return Audience(able=admitted.exclude(unable), unable=admitted.filter(unable))


def able_of(schedule: Schedule) -> "DeviceQuerySet":
    """Whom a kept command is for at this moment."""
    return audience_among(schedule.template, audience_query(schedule)).able


def unable_rule(draft: "ScheduleDraft") -> str:
    """The rule of the admitted devices that the command leaves out because of their firmware; empty where every
    firmware can do it."""
    unable = cannot_rule(draft.template)
    within = audience_rule(draft.include, draft.exclude, draft.devices) if draft.include or draft.devices else ""
    return f"admission = admitted and {within} and ({unable})" if unable and within else ""


def reached_now(draft: "ScheduleDraft", *, now: datetime) -> int:
    """How many devices a firing at this moment would be for: without those it leaves out as they are in a freeze."""
    able = audience_of(draft).able
    return able.exclude(in_freeze(draft.template, now)).count() if draft.freezes == FreezeChoice.DROP else able.count()


def frozen_now(draft: "ScheduleDraft", *, now: datetime) -> int:
    """How many devices of the audience a freeze holds at this moment."""
    return audience_of(draft).able.filter(in_freeze(draft.template, now)).count()


def in_freeze(template: CommandTemplate, now: datetime, device: str = "pk") -> Q:
    """A condition on rows whose column `device` is a device's id: a freeze holds the command there at this moment, or
    begins before the command is over. Gentle commands pass."""
    held = Q(pk__in=[])
    if template.harm == Harm.GENTLE:
        return held
    needs = timedelta(minutes=template.minutes)
    for freeze in freezes_between(now, now + needs + timedelta(seconds=1)):
        held |= held_by(freeze, device)
    return held


@dataclass(frozen=True)
class Reach:
    """How many devices a kept command is for in each zone, and how many a firing at this moment would be for."""

    zones: Sequence[tuple[str, int]]
    now: int


class Counting(Protocol):
    """By which fields devices are counted, and which devices; `device` leads to the device."""

    def fields(self, device: str = "") -> Sequence[str]: ...
    def narrowed(self, device: str = "") -> Q: ...


class ByZone:
    """All devices, by their time zones."""

    def fields(self, device: str = "") -> Sequence[str]:
        return (f"{device}time_zone",)

    def narrowed(self, device: str = "") -> Q:
        return Q()


def reach_by(schedules: Sequence[Schedule], by: Counting) -> dict[int, Counter[tuple[Any, ...]]]:
    """How many devices kept commands are for, by some fields of theirs.

    An audience that is one whole group, as most are, is counted with all other such ones at once; the others take a
    question in which each stands once, however many commands are for it.
    """
    prefetch_related_objects(list(schedules), "include", "exclude")
    named = named_by(Schedule, [s.pk for s in schedules])
    whole: dict[str, list[tuple[Schedule, int]]] = defaultdict(list)
    mixed: list[Schedule] = []
    for s in schedules:
        include = s.include.all()
        if len(include) == 1 and not s.exclude.all() and not named[s.pk]:
            whole[s.template_id].append((s, include[0].pk))
        else:
            mixed.append(s)
    found: dict[int, Counter[tuple[Any, ...]]] = {s.pk: Counter() for s in schedules}
    for same in whole.values():
        by_group = _by_group(same[0][0].template, {group for _, group in same}, by)
        for schedule, group in same:
            found[schedule.pk] = by_group[group]
    for pk, counts in _by_audience(mixed, named, by).items():
        found[pk] = counts
    return found


def _by_group(template: CommandTemplate, groups: Collection[int], by: Counting) -> dict[int, Counter[tuple[Any, ...]]]:
    """Of each group the admitted devices whose firmware can do it, by some fields."""
    members = GroupMembership.objects.of_groups(groups).filter(device__admission="admitted")
    able = members.exclude(cannot(template, "device__")).filter(by.narrowed("device__")).order_by()
    rows = able.values_list("group_id", *by.fields("device__")).annotate(n=Count("*"))
    found: dict[int, Counter[tuple[Any, ...]]] = defaultdict(Counter)
    for group, *values, n in rows:
        found[group][tuple(values)] += n
    return found


def _by_audience(
    schedules: Sequence[Schedule], named: Mapping[int, Sequence[int]], by: Counting
) -> dict[int, Counter[tuple[Any, ...]]]:
    """The same of audiences of any kind."""
    unable = cache(cannot)
    alike: dict[Any, list[Schedule]] = defaultdict(list)
    for s in schedules:
        groups = [tuple(sorted(g.pk for g in some.all())) for some in (s.include, s.exclude)]
        alike[*groups, tuple(named[s.pk]), s.template_id].append(s)
    counts = []
    for place, ((*_, words, _), [one, *_]) in enumerate(alike.items()):
        devices = members_of(one.include.all(), one.exclude.all(), words)
        able = devices.filter(by.narrowed(), admission="admitted").exclude(unable(one.template)).order_by()
        marked = able.annotate(place=Value(place, IntegerField()))
        counts.append(marked.values_list("place", *by.fields()).annotate(n=Count("id")))
    found: dict[int, Counter[tuple[Any, ...]]] = {s.pk: Counter() for s in schedules}
    same = list(alike.values())
    rows = counts[0].union(*counts[1:], all=True) if len(counts) > 1 else counts[0] if counts else []
    for place, *values, n in rows:
        for schedule in same[place]:
            found[schedule.pk][tuple(values)] += n
    return found


@dataclass(frozen=True)
class _InFreeze(ByZone):
    """Devices that a freeze holds a command on at a moment, by their time zones."""

    template: CommandTemplate
    now: datetime

    def narrowed(self, device: str = "") -> Q:
        return in_freeze(self.template, self.now, f"{device}pk")


def reach_of(schedules: Sequence[Schedule], *, now: datetime) -> dict[int, Reach]:
    """Whom kept commands are for, by their ids; with as many questions for many as for one, of the same commands."""
    zones = {pk: Counter({zone: n for (zone,), n in by.items()}) for pk, by in reach_by(schedules, ByZone()).items()}
    dropping: dict[str, list[Schedule]] = defaultdict(list)
    for schedule in schedules:
        if schedule.freezes == FreezeChoice.DROP:
            dropping[schedule.template_id].append(schedule)
    dropped: Counter[int] = Counter()
    for same in dropping.values():
        held = reach_by(same, _InFreeze(same[0].template, now))
        dropped.update({pk: by.total() for pk, by in held.items()})
    return {pk: Reach(zones=of.most_common(), now=of.total() - dropped[pk]) for pk, of in zones.items()}
