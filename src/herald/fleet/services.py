"""Verbs on devices: finding one by what people call it."""

from collections.abc import Sequence
from datetime import datetime

from django.db import transaction
from django.db.models import Q

from herald.access.models import User
from herald.api.errors import Conflict, Invalid, NotFound
from herald.fleet.models import Admission, Device
from herald.record.services import record


def find_device(word: str) -> Device:
    """The device with this id, name or uid.

    Raises:
        NotFound: no device is called so.
    """
    by_id = Q(pk=int(word)) if word.isascii() and word.isdigit() and len(word) < 18 else Q(pk__in=[])
    device = Device.objects.with_names().filter(by_id | Q(name=word) | Q(uid=word)).first()
    if device is None:
        raise NotFound(f"No device is called {word[:80]}.")
    return device


def ask_to_report(device: Device, *, actor: User | None, now: datetime) -> None:
    """Have the device say everything it knows of itself; it is told at its next check-in.

    Raises:
        Conflict: it is retired or has never enrolled, so it will not call.
    """
    if device.admission == Admission.RETIRED or device.secret_hash is None:
        why = "is retired" if device.admission == Admission.RETIRED else "has not enrolled yet"
        raise Conflict(f"{device.name} {why}, so it cannot be asked.")
    with transaction.atomic():
        Device.objects.filter(pk=device.pk, report_asked_at=None).update(report_asked_at=now)
        sentence = f"Asked {device.name} to report at its next check-in"
        record(now=now, actor=actor, kind="device", object_id=device.pk, sentence=sentence)


def find_devices(words: Sequence[str]) -> tuple[list[Device], list[str]]:
    """Devices by name or uid in the order of the words, and the words that no device is called."""
    found: dict[str, Device] = {}
    for device in Device.objects.with_names().called_any_of(words):
        found |= {device.uid: device, device.name: device}
    devices = {found[w].pk: found[w] for w in words if w in found}
    return list(devices.values()), [w for w in words if w not in found]


def device_ids(words: list[str], pointer: str) -> list[int]:
    """Devices by name or uid; unknown ones are refused by name."""
    found: dict[str, int] = {}
    for name, uid, pk in Device.objects.called_any_of(words).values_list("name", "uid", "id"):
        found |= {name: pk, uid: pk}
    unknown = [w for w in words if w not in found]
    if unknown:
        more = f" and {len(unknown) - 10} more" if len(unknown) > 10 else ""
        raise Invalid(pointer, f"No device is called {', '.join(unknown[:10])}{more}.", unknown=unknown)
    return [found[w] for w in words]
