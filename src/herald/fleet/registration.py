"""Rows of devices that come and go: their secrets, refusals at enrolment, and what is left of a removed one."""

from collections.abc import Collection, Sequence
from datetime import datetime

from herald.fleet.models import Device, EnrolmentAttempt, RefusalCause, RemovedDevice

CHUNK = 2000


def write_secret(device: Device, secret_hash: str | None) -> None:
    """Let this secret open the gateway for the device, or none. What it last said is forgotten: whatever calls next is
    believed anew."""
    Device.objects.filter(pk=device.pk).update(secret_hash=secret_hash, said_digest=None, facts_digest=None)


def forget_refusals(uid: str, cause: RefusalCause | None = None) -> None:
    """Forget that a device was refused, for one cause or any: the cause is gone."""
    attempts = EnrolmentAttempt.objects.filter(uid=uid)
    (attempts.filter(cause=cause) if cause else attempts).delete()


def delete_devices(device_ids: Sequence[int]) -> None:
    """Delete devices with all that refers to them."""
    for start in range(0, len(device_ids), CHUNK):
        Device.objects.by_ids(device_ids[start : start + CHUNK]).delete()


def remember_removed(device: Device, *, rollouts: Collection[int], now: datetime) -> None:
    """Delete a device, and remember its uid and the rollouts that it took part in."""
    RemovedDevice.objects.create(
        uid=device.uid, name=device.name, serial=device.serial, removed_at=now, rollouts=sorted(rollouts)
    )
    device.delete()


def forget_removed(removed: RemovedDevice) -> None:
    """Let the uid of a removed device be taken again."""
    forget_refusals(removed.uid)
    removed.delete()
