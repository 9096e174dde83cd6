"""What happened, in words: to a device, and in a rollout."""

from typing import Any

from herald.deliveries.models import DeliveryEvent
from herald.edits.models import EditedDevice
from herald.fleet.models import Device
from herald.groups.models import MembershipEvent
from herald_core.deliveries import CAUSE_WORDS, Cause, Phase

Entry = dict[str, Any]


def device_timeline(device: Device, *, most: int) -> list[Entry]:
    """The latest of a device's deliveries and groups, newest first."""
    entries = [delivery_entry(e, device.name) for e in DeliveryEvent.objects.of_device(device.pk)[:most]]
    joined = MembershipEvent.objects.filter(device=device).select_related("group").order_by("-id")[:most]
    entries += [
        _entry(e.at, f"{'joined' if e.joined else 'left'} “{e.group.name}”", e.cause, device.name) for e in joined
    ]
    edits = EditedDevice.objects.of_device(device.pk).select_related("edit__created_by")[:most]
    entries += [_entry(e.edit.created_at, e.edit.sentence, f"by {e.edit.created_by}", device.name) for e in edits]
    if device.first_seen:
        entries.append(_entry(device.first_seen, "first seen", "", device.name))
    return sorted(entries, key=lambda e: e["at"], reverse=True)[:most]


def delivery_entry(event: DeliveryEvent, device: str) -> Entry:
    """One change of a delivery in words."""
    delivery = event.delivery
    what = str(delivery.image) if delivery.image else "a command that you do not see"
    if delivery.occurrence:
        what = delivery.occurrence.template.name.lower()
    phase = Phase(event.to_phase)
    words = f"{what}: {phase.value}"
    if event.cause == Cause.FILE_STORED:
        words = f"{what}: its file is there"
    elif event.cause == Cause.NOTICE_SHOWN:
        words = f"{what}: notice shown"
    elif event.cause == Cause.DEFERRED and event.from_phase == event.to_phase:
        words = f"{what}: put off"
    elif phase is Phase.WAITING and event.from_phase != Phase.OFFERED:
        words = f"{what}: attempt {event.attempt} failed, will be tried again"
    detail = ", ".join(t for t in (CAUSE_WORDS.get(event.cause, event.cause), event.detail) if t)
    return {
        **_entry(event.at, words, detail, device),
        "to_phase": event.to_phase,
        "rollout": delivery.seen_rollout_id,
        "schedule": delivery.occurrence.schedule_id if delivery.occurrence else None,
    }


def _entry(at: Any, text: str, detail: str, device: str) -> Entry:
    return {
        "at": at,
        "text": text,
        "detail": detail,
        "to_phase": "",
        "device": device,
        "rollout": None,
        "schedule": None,
    }
