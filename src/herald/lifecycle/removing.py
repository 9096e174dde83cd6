"""Removing a retired device for good, with all that is kept of it."""

from dataclasses import dataclass
from datetime import datetime

from django.db import transaction

from herald.deliveries.models import Delivery
from herald.fleet.models import Admission, Device, RemovedDevice
from herald.fleet.registration import forget_removed, remember_removed
from herald.http.errors import Conflict, Invalid
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record


@dataclass(frozen=True, kw_only=True)
class Removal:
    """What goes with a device: its orders and the rollouts and commands whose counts are without it then, and the
    groups that it is in."""

    orders: int
    rollouts: int
    commands: int
    groups: int


def preview_removal(device: Device) -> Removal:
    """What removing the device would remove."""
    orders = Delivery.objects.filter(device=device)
    return Removal(
        orders=orders.count(),
        rollouts=orders.exclude(rollout=None).values("rollout").distinct().count(),
        commands=orders.exclude(occurrence=None).values("occurrence__schedule").distinct().count(),
        groups=device.memberships.count(),
    )


def remove_device(device: Device, *, name: str, actor: User | None, now: datetime) -> None:
    """Delete a retired device with its history. Its uid is kept, so that nothing else is taken for it.

    Raises:
        Invalid: `name`, which somebody typed to confirm, is not its name.
        Conflict: it is not retired.
    """
    if name != device.name:
        raise Invalid("/name", f"Type the name of the device, {device.name}, to remove it.")
    with transaction.atomic():
        locked = Device.objects.select_for_update().get(pk=device.pk)
        if locked.admission != Admission.RETIRED:
            raise Conflict(f"{locked.name} is {locked.get_admission_display().lower()}. Retire it first.")
        told = preview_removal(locked)
        orders = Delivery.objects.filter(device=locked).exclude(rollout=None)
        sentence = f"Removed {locked.name} for good, with {told.orders} orders of {told.rollouts} rollouts"
        record(
            now=now,
            actor=actor,
            kind="device",
            object_id=locked.pk,
            sentence=sentence,
            before={"uid": locked.uid, "name": locked.name, "serial": locked.serial},
        )
        remember_removed(locked, rollouts=set(orders.values_list("rollout_id", flat=True)), now=now)
    notify("fleet")


def let_in_again(uid: str, *, actor: User | None, now: datetime) -> None:
    """Forget that a device was removed, so that its uid may enrol as a new device.

    Raises:
        Conflict: no device with this uid was removed.
    """
    with transaction.atomic():
        removed = RemovedDevice.objects.select_for_update().filter(uid=uid).first()
        if removed is None:
            raise Conflict(f"No device with the uid {uid[:80]} was removed.")
        sentence = f"Let {uid} in again, which was removed as {removed.name}"
        record(now=now, actor=actor, kind="device", object_id=0, sentence=sentence)
        forget_removed(removed)
