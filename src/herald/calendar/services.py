"""Verbs on freezes, and whom they hold."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from django.db import transaction
from django.db.models import Exists, OuterRef, Q

from herald.calendar.models import Freeze
from herald.fleet.models import Device, Site
from herald.groups.models import Group, GroupMembership
from herald.http.dates import check_plannable
from herald.http.errors import Invalid
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.waiting import FreezeSpan


@dataclass(frozen=True, kw_only=True)
class FreezeDraft:
    """A freeze as it is written down: [starts_at, ends_at)."""

    name: str
    starts_at: datetime
    ends_at: datetime
    why: str = ""
    everywhere: bool = False
    groups: Sequence[Group] = ()
    sites: Sequence[Site] = ()


def save_freeze(draft: FreezeDraft, *, actor: User | None, now: datetime, freeze: Freeze | None = None) -> Freeze:
    """Write a freeze down, new or in place of what `freeze` was.

    Raises:
        Invalid: it ends before it begins, or holds nobody.
    """
    check_plannable(draft.starts_at, "/starts_at")
    check_plannable(draft.ends_at, "/ends_at")
    if draft.ends_at <= draft.starts_at:
        raise Invalid("/ends_at", "A freeze ends after it begins.")
    if not draft.everywhere and not draft.groups and not draft.sites:
        raise Invalid("/groups", "Say whom it holds: groups, sites, or everywhere. With none of them it holds nobody.")
    with transaction.atomic():
        verb = "Changed" if freeze else "Wrote down"
        freeze = freeze or Freeze(created_by=actor)
        freeze.name, freeze.why = draft.name, draft.why
        freeze.starts_at, freeze.ends_at, freeze.everywhere = draft.starts_at, draft.ends_at, draft.everywhere
        freeze.save()
        freeze.groups.set(draft.groups)
        freeze.sites.set(draft.sites)
        sentence = (
            f"{verb} the freeze {freeze.name}, {freeze.starts_at:%-d %b %H:%M} to {freeze.ends_at:%-d %b %H:%M} UTC"
        )
        record(now=now, actor=actor, kind="freeze", object_id=freeze.pk, sentence=sentence)
        notify("freezes", freeze.pk)
    return freeze


def delete_freeze(freeze: Freeze, *, actor: User | None, now: datetime) -> None:
    """Take a freeze away: what it held may go on."""
    with transaction.atomic():
        record(now=now, actor=actor, kind="freeze", object_id=freeze.pk, sentence=f"Took away the freeze {freeze.name}")
        notify("freezes", freeze.pk)
        freeze.delete()


def held_by(freeze: Freeze, device: str = "pk") -> Q:
    """A condition on rows whose column `device` is a device's id: the freeze holds that device."""
    if freeze.everywhere:
        return Q(pk__isnull=False)  # an empty condition would exclude nobody
    members = GroupMembership.objects.filter(group__freezes=freeze.pk, device_id=OuterRef(device))
    at_sites = Device.objects.filter(site__freezes=freeze.pk, pk=OuterRef(device))
    return Q(Exists(members)) | Q(Exists(at_sites))


def freezes_between(start: datetime, end: datetime) -> list[Freeze]:
    """Freezes that hold at some moment in [start, end), the first to begin first."""
    return list(Freeze.objects.between(start, end))


def freezes_of(device_ids: Sequence[int], start: datetime, end: datetime) -> list[tuple[Freeze, set[int]]]:
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


def devices_held(freezes: Sequence[Freeze]) -> set[int]:
    """The devices that any of these freezes holds."""
    held: set[int] = set()
    for freeze in freezes:
        held |= set(Device.objects.filter(held_by(freeze)).values_list("id", flat=True))
    return held
