"""Verbs on freezes, and whom they hold."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import transaction
from django.db.models import Exists, OuterRef, Q

from herald.calendar.models import UTC_CLOCK, CalendarSource, Freeze, FreezeTime
from herald.fleet.models import Device, Site
from herald.groups.models import Group, GroupMembership
from herald.http.dates import check_plannable
from herald.http.errors import Conflict, Invalid
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.timing.clocks import is_zone
from herald_core.timing.yearly import LONGEST_YEARLY, yearly
from herald_core.waiting import FreezeSpan


@dataclass(frozen=True, kw_only=True)
class FreezeDraft:
    """A freeze as it is written down: [starts_at, ends_at), and where it repeats, the same days and hours of each year
    after by the clock of `time_zone`."""

    name: str
    starts_at: datetime
    ends_at: datetime
    why: str = ""
    repeats_yearly: bool = False
    time_zone: str = UTC_CLOCK
    everywhere: bool = False
    groups: Sequence[Group] = ()
    sites: Sequence[Site] = ()


def save_freeze(draft: FreezeDraft, *, actor: User | None, now: datetime, freeze: Freeze | None = None) -> Freeze:
    """Write a freeze down, new or in place of what `freeze` was.

    Raises:
        Invalid: it ends before it begins, holds nobody, or is too long to come again each year.
        Conflict: it is read from a calendar.
    """
    check_plannable(draft.starts_at, "/starts_at")
    check_plannable(draft.ends_at, "/ends_at")
    if draft.ends_at <= draft.starts_at:
        raise Invalid("/ends_at", "A freeze ends after it begins.")
    if draft.repeats_yearly and draft.ends_at - draft.starts_at > LONGEST_YEARLY:
        raise Invalid("/ends_at", f"A freeze that comes again each year lasts at most {LONGEST_YEARLY.days} days.")
    if not is_zone(draft.time_zone):
        raise Invalid("/time_zone", f"There is no time zone “{draft.time_zone}”; they are named like Europe/Lisbon.")
    check_holds(draft.everywhere, draft.groups, draft.sites)
    with transaction.atomic():
        verb = "Changed" if freeze else "Wrote down"
        if freeze is not None:
            freeze = Freeze.objects.select_for_update(of=("self",)).get(pk=freeze.pk)
            _check_own(freeze)
            freeze.revision += 1
        freeze = freeze or Freeze(created_by=actor)
        for name in _FIELDS:
            setattr(freeze, name, getattr(draft, name))
        freeze.save()
        freeze.groups.set(draft.groups)
        freeze.sites.set(draft.sites)
        again = ", and each year" if freeze.repeats_yearly else ""
        sentence = f"{verb} the freeze {freeze.name}, {span_words(freeze)}{again}"
        record(now=now, actor=actor, kind="freeze", object_id=freeze.pk, sentence=sentence)
        notify("freezes", freeze.pk)
    return freeze


#: what a draft and a freeze have by the same name, besides whom it holds
_FIELDS = ("name", "why", "starts_at", "ends_at", "repeats_yearly", "time_zone", "everywhere")


def draft_of_freeze(freeze: Freeze) -> FreezeDraft:
    """A freeze as it was written down."""
    fields = {name: getattr(freeze, name) for name in _FIELDS}
    return FreezeDraft(**fields, groups=list(freeze.groups.all()), sites=list(freeze.sites.all()))


def check_holds(everywhere: bool, groups: Sequence[Group], sites: Sequence[Site]) -> None:
    """A freeze holds somebody.

    Raises:
        Invalid: no device, group or site is said.
    """
    if not everywhere and not groups and not sites:
        raise Invalid("/groups", "Say whom it holds: groups, sites, or everywhere. With none of them it holds nobody.")


def span_words(freeze: Freeze | FreezeTime) -> str:
    """When a freeze holds, by UTC."""
    return f"{freeze.starts_at:%-d %b %H:%M} to {freeze.ends_at:%-d %b %H:%M} UTC"


def _check_own(freeze: Freeze) -> None:
    source: CalendarSource | None = freeze.source
    if source is not None:
        raise Conflict(
            f"The freeze {freeze.name} is read from the calendar “{source.name}”. Change it there, or remove the "
            "calendar from the Library."
        )


def delete_freeze(freeze: Freeze, *, actor: User | None, now: datetime) -> None:
    """Take a freeze away: what it held may go on.

    Raises:
        Conflict: it is read from a calendar.
    """
    _check_own(freeze)
    with transaction.atomic():
        record(now=now, actor=actor, kind="freeze", object_id=freeze.pk, sentence=f"Took away the freeze {freeze.name}")
        notify("freezes", freeze.pk)
        freeze.delete()


def held_by(freeze: Freeze | FreezeTime, device: str = "pk") -> Q:
    """A condition on rows whose column `device` is a device's id: the freeze holds that device."""
    if freeze.everywhere:
        return Q(pk__isnull=False)  # an empty condition would exclude nobody
    members = GroupMembership.objects.filter(group__freezes=freeze.pk, device_id=OuterRef(device))
    at_sites = Device.objects.filter(site__freezes=freeze.pk, pk=OuterRef(device))
    return Q(Exists(members)) | Q(Exists(at_sites))


def held_by_any(everywhere: bool, groups: Sequence[Group], sites: Sequence[Site]) -> Q:
    """A condition on devices: a freeze of these holds the device. Of nobody, it holds nobody."""
    if everywhere:
        return Q(pk__isnull=False)
    members = GroupMembership.objects.filter(group__in=[g.pk for g in groups], device_id=OuterRef("pk"))
    return Q(Exists(members)) | Q(site__in=[s.pk for s in sites])


def times_of(freeze: Freeze, start: datetime, end: datetime) -> list[FreezeTime]:
    """The times of a freeze that touch [start, end), the first first."""
    if not freeze.repeats_yearly:
        touches = freeze.starts_at < end and freeze.ends_at > start
        return [FreezeTime(freeze, freeze.starts_at, freeze.ends_at)] if touches else []
    found = yearly(freeze.starts_at, freeze.ends_at, freeze.time_zone, after=start, before=end)
    return [FreezeTime(freeze, begins, ends) for begins, ends in found]


def next_time(freeze: Freeze, now: datetime) -> FreezeTime | None:
    """The time of a freeze that holds now, or else the next, however far away; None where it is over."""
    far = max(now, freeze.ends_at) + timedelta(days=3 * 366)
    return next(iter(times_of(freeze, now, far)), None)


def freezes_between(start: datetime, end: datetime) -> list[FreezeTime]:
    """The times of freezes that hold at some moment in [start, end), the first to begin first."""
    found = [time for freeze in Freeze.objects.maybe_between(start, end) for time in times_of(freeze, start, end)]
    return sorted(found, key=lambda t: (t.starts_at, t.pk))


def freezes_of(device_ids: Sequence[int], start: datetime, end: datetime) -> list[tuple[FreezeTime, set[int]]]:
    """Freezes that hold at some moment in [start, end), and which of the devices each holds; the first first."""
    if not device_ids:
        return []
    devices = Device.objects.by_ids(device_ids)
    found = []
    for freeze in freezes_between(start, end):
        held = device_ids if freeze.everywhere else devices.filter(held_by(freeze)).values_list("id", flat=True)
        found.append((freeze, set(held)))
    return found


def freeze_spans(device_ids: Sequence[int], start: datetime, end: datetime) -> dict[int, list[FreezeSpan]]:
    """For each device the freezes that hold it at some moment in [start, end), the first to begin first."""
    spans: dict[int, list[FreezeSpan]] = {}
    for freeze, held in freezes_of(device_ids, start, end):
        for device in held:
            spans.setdefault(device, []).append(
                FreezeSpan(name=freeze.name, start=freeze.starts_at, end=freeze.ends_at)
            )
    return spans


def devices_held(freezes: Sequence[FreezeTime]) -> set[int]:
    """The devices that any of these freezes holds."""
    held: set[int] = set()
    for freeze in freezes:
        held |= set(Device.objects.filter(held_by(freeze)).values_list("id", flat=True))
    return held
