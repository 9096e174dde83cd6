"""Adding one device by hand, known before it first calls."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from herald.edits.change import RequestedEdit, read_change
from herald.fleet.editing import ensure_tags, make_devices
from herald.fleet.models import (
    DEFAULT_INTERVAL_SECONDS,
    Admission,
    Device,
    DeviceModel,
    RefusalCause,
    RemovedDevice,
    announced_uid,
)
from herald.fleet.registration import forget_refusals
from herald.fleet.vocabulary import attribute_defaults, load_vocabulary
from herald.groups.consequences.acceptance import Agreement, gated
from herald.http.errors import InvalidFields
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.rules import Vocabulary
from herald_core.text import closest, is_storable, nfc


@dataclass(frozen=True, kw_only=True)
class DeviceDraft:
    """A device as it is written down. It needs a uid, or the serial by which it will make itself known."""

    model: str
    uid: str = ""
    serial: str = ""
    name: str = ""
    hardware_revision: str = ""
    site: str = ""
    custodian: str = ""
    tags: Sequence[str] = ()
    attributes: Mapping[str, Any] = field(default_factory=dict)
    admission: Admission = Admission.ADMITTED
    own_time_zone: str = ""
    interval: int = DEFAULT_INTERVAL_SECONDS


def add_device(draft: DeviceDraft, *, actor: User | None, now: datetime, agreement: Agreement | None = None) -> Device:
    """Make a device known. It may enrol with any code, and is then what was written down.

    Raises:
        InvalidFields: with every field that does not fit.
        NotAgreed: something that runs would reach it, and nobody agreed to that.
    """
    vocabulary = load_vocabulary()
    uid, state = _read(draft, vocabulary)
    with gated(agreement, now=now, cause="it was added by hand"):
        ensure_tags(state["tags"])
        make_devices({uid: state}, vocabulary, now=now)
        device: Device = Device.objects.with_names().get(uid=uid)
        forget_refusals(uid, RefusalCause.NOT_EXPECTED)
        record(now=now, actor=actor, kind="device", object_id=device.pk, sentence=f"Added {device.name} by hand")
    notify("fleet")
    return device


def _read(draft: DeviceDraft, vocabulary: Vocabulary) -> tuple[str, dict[str, Any]]:
    """The uid, and the state to write."""
    errors: list[tuple[str, str]] = []
    uid, serial = nfc(draft.uid.strip()), nfc(draft.serial.strip())
    for key, text, most in (
        ("uid", uid, 80),
        ("serial", serial, 80),
        ("hardware_revision", draft.hardware_revision, 20),
    ):
        if len(text) > most or not is_storable(text):
            errors.append((f"/{key}", f"At most {most} characters that can be stored are taken."))
    if not uid and not serial:
        errors.append(("/uid", "A device needs its uid, or the serial by which it will make itself known."))
    uid = uid or announced_uid(serial)
    name = draft.name.strip() or uid
    model = DeviceModel.objects.filter(name=nfc(draft.model.strip())).first()
    if model is None:
        near = closest(draft.model, DeviceModel.objects.values_list("name", flat=True))
        errors.append(("/model", f"There is no model {draft.model[:60]}.{f' Did you mean {near}?' if near else ''}"))
    asked = RequestedEdit(
        name=name,
        site=draft.site,
        custodian=draft.custodian,
        admission=draft.admission,
        own_time_zone=draft.own_time_zone,
        interval=draft.interval,
        set_attributes=draft.attributes,
        add_tags=draft.tags,
    )
    try:
        change = read_change(asked, vocabulary)
    except InvalidFields as refusal:
        raise InvalidFields([*errors, *_renamed(refusal.problems)]) from None
    errors += _taken(uid, change.replace["name"], serial)
    attributes = {**attribute_defaults(vocabulary), **change.set_attributes}
    lacking = [s for s in vocabulary.fields.values() if s.required and s.key not in attributes]
    errors += [(f"/attributes/{s.key}", f"{s.label} is required.") for s in lacking]
    if errors or model is None:
        raise InvalidFields(errors)
    return uid, {
        **change.replace,
        "serial": serial,
        "model": model.pk,
        "hardware": nfc(draft.hardware_revision.strip()),
        "tags": list(change.add_tags),
        "attributes": attributes,
    }


def _renamed(errors: Sequence[tuple[str, str]]) -> list[tuple[str, str]]:
    """The pointers of an edit as those of a new device."""
    names = {"/set_attributes": "/attributes", "/add_tags": "/tags"}
    found = []
    for pointer, words in errors:
        for old, new in names.items():
            if pointer.startswith(old):
                pointer = new + pointer.removeprefix(old)
        found.append((pointer, words))
    return found


def _taken(uid: str, name: str, serial: str) -> list[tuple[str, str]]:
    errors = []
    if uid == announced_uid(serial) and Device.objects.filter(uid=uid).exists():
        errors.append(("/serial", "A device with this serial was announced already."))
    elif Device.objects.filter(uid=uid).exists():
        errors.append(("/uid", "There is a device with this uid already."))
    elif RemovedDevice.objects.filter(uid=uid).exists():
        errors.append(("/uid", "A device with this uid was removed for good. Let it in again first."))
    elif serial and Device.objects.filter(uid=announced_uid(serial)).exists():
        errors.append(("/serial", "A device with this serial was announced already."))
    if Device.objects.filter(name=name).exists():
        errors.append(("/name", "There is a device of this name already."))
    return errors
