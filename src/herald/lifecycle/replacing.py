"""Putting a new device in the place of an old one."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from herald.commands.models import Schedule, ScheduleState
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.editing import read_states, write_states
from herald.fleet.models import Admission, Device
from herald.fleet.vocabulary import load_vocabulary
from herald.groups import constraints
from herald.groups.consequences.acceptance import Agreement, admission_differences, gated
from herald.groups.membership import set_members
from herald.groups.models import Group, GroupKind
from herald.http.errors import Conflict, Invalid
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald.rollouts.models import Rollout
from herald_core.deliveries import RECALLABLE
from herald_core.edits import State

#: what the new device takes over as it is
_TAKEN_OVER = ("name", "site", "custodian", "own_time_zone", "interval", "admission")


@dataclass(frozen=True, kw_only=True)
class Replacement:
    """What a replacement does: the name that the old device has then, the static groups in which the new one takes its
    place, and how many orders of the old one are withdrawn or finish by themselves."""

    old_name: str
    groups: list[Group]
    #: rollouts and commands, not ended, that name the old device and name the new one then
    named_in: int
    withdrawn: int
    finishing: int


def preview_replacement(old: Device, new: Device, *, now: datetime) -> Replacement:
    """What replacing would do; groups by rule follow by themselves.

    Raises:
        Invalid: the two are one device.
        Conflict: one of them cannot be part of it.
    """
    if old.pk == new.pk:
        raise Invalid("/by", "A device cannot be replaced by itself.")
    if old.admission == Admission.RETIRED:
        raise Conflict(f"{old.name} is retired already.")
    if new.admission == Admission.RETIRED:
        raise Conflict(f"{new.name} is retired. Admit it first.")
    if Delivery.objects.busy_devices([new.pk]):
        raise Conflict(f"{new.name} is carrying out an order. Replace once it is through.")
    groups = list(Group.objects.filter(memberships__device=old, kind=GroupKind.STATIC).order_by("name"))
    for group in groups:
        constraints.check_model(group, [new.pk])
    open_orders = Delivery.objects.filter(device=old).open()
    withdrawable = open_orders.filter(phase__in=[p.value for p in RECALLABLE]).count()
    return Replacement(
        old_name=_name_after(old, now),
        groups=groups,
        named_in=sum(len(things) for things in _naming(old)),
        withdrawn=withdrawable,
        finishing=open_orders.count() - withdrawable,
    )


def replace_device(
    old: Device, new: Device, *, actor: User | None, now: datetime, agreement: Agreement | None = None
) -> Device:
    """Give the new device the name, place, tags, attributes and static groups of the old one, which is retired.

    Raises:
        Invalid, Conflict: as `preview_replacement` says.
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    vocabulary = load_vocabulary()
    with gated(agreement, now=now, cause=f"it replaced {old.name}"[:80]) as more:
        states = read_states([old.pk, new.pk], lock=True)
        told = preview_replacement(Device.objects.get(pk=old.pk), Device.objects.get(pk=new.pk), now=now)
        before, retired = states[old.pk], {**states[old.pk], "name": told.old_name, "admission": "retired"}
        taken_over = _taken_over(before, states[new.pk])
        for group in told.groups:
            members = (set(group.memberships.device_ids()) | {new.pk}) - {old.pk}
            set_members(group, Device.objects.by_ids(members), now=now, cause=f"replaced {before['name']}"[:80])
        for things in _naming(old):
            for thing in things:
                thing.devices.remove(old)
                thing.devices.add(new)
        deliveries.withdraw(Delivery.objects.filter(device=old), now=now, cause="its device was replaced")
        write_states({old.pk: retired}, vocabulary, now=now)  # first, as the name is free only then
        write_states({new.pk: taken_over}, vocabulary, now=now)
        after = {old.pk: retired["admission"], new.pk: taken_over["admission"]}
        more += admission_differences({pk: state["admission"] for pk, state in states.items()}, after)
        sentence = f"Replaced {before['name']} ({old.uid}) by {new.uid}, which was {states[new.pk]['name']}"
        for pk in (old.pk, new.pk):
            record(now=now, actor=actor, kind="device", object_id=pk, sentence=sentence[:300], before=states[pk])
    notify("fleet")
    taken_over_by: Device = Device.objects.with_names().get(pk=new.pk)
    return taken_over_by


def _naming(device: Device) -> tuple[list[Rollout], list[Schedule]]:
    """Rollouts and schedules, not ended, that name a device."""
    return (
        list(Rollout.objects.filter(devices=device, ended_at=None)),
        list(Schedule.objects.filter(devices=device).exclude(state=ScheduleState.ENDED)),
    )


def _taken_over(old: State, new: State) -> dict[str, Any]:
    return {
        **new,
        **{part: old[part] for part in _TAKEN_OVER},
        "tags": list(dict.fromkeys([*old["tags"], *new["tags"]])),
        "attributes": {**new["attributes"], **old["attributes"]},
    }


def _name_after(old: Device, now: datetime) -> str:
    """A name for the old device that says what became of it, and that no other has."""
    wanted = f"{old.name[:50]}, replaced {now:%Y-%m-%d}"
    taken = set(Device.objects.filter(name__startswith=wanted).values_list("name", flat=True))
    names = (wanted, *(f"{wanted} ({n})" for n in range(2, len(taken) + 3)))
    return next(n for n in names if n not in taken)
