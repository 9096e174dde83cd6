"""A device's first call: it shows an enrolment code and gets a secret of its own, once."""

import secrets
from datetime import datetime
from typing import Any

import msgspec
from django.db import close_old_connections, transaction

from herald.deliveries.models import Delivery
from herald.fleet.editing import sort_keys, version_attributes
from herald.fleet.models import (
    Admission,
    Device,
    DeviceModel,
    EnrolmentAttempt,
    EnrolmentCode,
    MembershipQueueEntry,
    RefusalCause,
    RemovedDevice,
    announced_uid,
)
from herald.fleet.secrets import hash_secret
from herald.fleet.vocabulary import attribute_defaults, load_vocabulary
from herald.gateway.messages import ProtocolError
from herald.images.signing import published_keys
from herald.record.services import record
from herald.time import clock
from herald_core.actions import Action
from herald_core.text import is_storable, nfc


class Enrolment(msgspec.Struct):
    uid: str
    model: str
    serial: str = ""
    hardware_revision: str = ""
    code: str = ""


_decoder = msgspec.json.Decoder(Enrolment)


#: refused attempts that are kept, the newest of them
MOST_ATTEMPTS = 500


def enrol(body: bytes, address: str = "") -> dict[str, Any]:
    """Take a new device in, or one that was registered and has no secret yet. A refusal that a person can do something
    about is kept, with the address that the call came from.

    Raises:
        ProtocolError: the code is wrong, the model unknown, or the device has a secret already.
    """
    close_old_connections()
    message = _read(body)
    try:
        return _enrol(message)
    except ProtocolError as refusal:
        if refusal.code in RefusalCause.values:
            _keep(message, refusal.code, address)
        raise


def _keep(message: Enrolment, cause: str, address: str) -> None:
    with transaction.atomic():
        EnrolmentAttempt.objects.note(
            nfc(message.uid.strip()),
            cause,
            clock.now(),
            serial=nfc(message.serial),
            model=nfc(message.model)[:60] if is_storable(message.model) else "",
            hardware_revision=nfc(message.hardware_revision),
            address=address[:60],
        )
        EnrolmentAttempt.objects.keep_newest(MOST_ATTEMPTS)


def _read(body: bytes) -> Enrolment:
    try:
        message = _decoder.decode(body)
    except RecursionError:
        raise ProtocolError(422, "malformed", "The body does not fit: it is nested too deeply") from None
    except (msgspec.ValidationError, msgspec.DecodeError, UnicodeDecodeError) as error:
        raise ProtocolError(422, "malformed", f"The body does not fit: {error}") from error
    texts = (message.uid, message.serial, message.hardware_revision)
    if not message.uid.strip() or not all(is_storable(t) and len(t) <= 80 for t in texts):
        raise ProtocolError(
            422, "bad-uid", "uid, serial and hardware_revision have at most 80 characters, uid at least one."
        )
    return message


def _enrol(message: Enrolment) -> dict[str, Any]:
    with transaction.atomic():
        code = _code(message.code, clock.now())
        model = DeviceModel.objects.called(nfc(message.model))
        if model is None:
            raise ProtocolError(422, "unknown-model", f"model: this server knows no {message.model[:60]!r}.")
        secret = secrets.token_urlsafe(32)
        device = _register(message, model, code, secret)
        MembershipQueueEntry.objects.note([device.pk], clock.now())
        EnrolmentAttempt.objects.filter(uid=device.uid).delete()
        sentence = f"{device.name} enrolled with the code “{code.label}”; it is {device.admission}"
        record(now=clock.now(), actor=None, kind="device", object_id=device.pk, sentence=sentence)
    return {"admission": device.admission, "secret": secret, "keys": published_keys()}


def _code(given: str, now: datetime) -> EnrolmentCode:
    """The code with these letters, locked, if it can still be used."""
    code = EnrolmentCode.objects.select_for_update(of=("self",)).filter(code_hash=hash_secret(given)).first()
    if code is None:
        raise ProtocolError(401, "bad-code", "code: this enrolment code is not known.")
    if code.expires_at is not None and code.expires_at <= now:
        raise ProtocolError(401, "expired-code", "code: this enrolment code has expired.")
    if code.uses_left == 0:
        raise ProtocolError(401, "used-code", "code: this enrolment code was used as often as it may be.")
    return code


def _register(message: Enrolment, model: DeviceModel, code: EnrolmentCode, secret: str) -> Device:
    uid = nfc(message.uid.strip())
    device = _preregistered(uid, nfc(message.serial))
    if RemovedDevice.objects.filter(uid=uid).exists():
        raise ProtocolError(
            403, "removed", "uid: this device was removed for good; an administrator can let it in again."
        )
    if device is not None and device.admission == Admission.RETIRED:
        raise ProtocolError(409, "retired", "uid: this device is retired.")
    if device is not None and device.secret_hash and not _is_told_to(device):
        raise ProtocolError(409, "enrolled", "uid: this device has a secret already; an operator can revoke it.")
    if device is None and code.known_only:
        raise ProtocolError(
            403, "not-expected", "uid: this code is for devices that were announced, and this one was not."
        )
    if device is None:
        vocabulary = load_vocabulary()
        admission = Admission.ADMITTED if code.admit else Admission.WAITING
        device = Device(
            uid=uid,
            name=uid,
            tags=list(code.tags),
            attributes={**attribute_defaults(vocabulary), **code.attributes},
            admission=admission,
            site=code.site,
            custodian=code.custodian,
            first_seen=clock.now(),
        )
        device.version_keys = sort_keys(device.attributes, version_attributes(vocabulary))
        device.time_zone = code.site.time_zone if code.site else "UTC"
    device.model, device.serial = model, nfc(message.serial)
    device.hardware_revision, device.secret_hash = nfc(message.hardware_revision)[:20], hash_secret(secret)
    device.save()
    if code.uses_left is not None:
        code.uses_left -= 1
        code.save(update_fields=["uses_left"])
    return device


def _is_told_to(device: Device) -> bool:
    """Whether the device has an order to forget its secret and enrol again."""
    orders = Delivery.objects.in_hand().filter(device=device, occurrence__template__action=Action.RE_ENROL.value)
    return bool(orders.exists())


def _preregistered(uid: str, serial: str) -> Device | None:
    """The device with this uid; else the one that was announced by its serial alone, which gets its uid now."""
    device = Device.objects.select_for_update().filter(uid=uid).first()
    if device is not None or not serial:
        return device
    placeholder = announced_uid(serial)
    device = Device.objects.select_for_update().filter(uid=placeholder).first()
    if device is not None:
        device.uid = uid
        if device.name == placeholder and not Device.objects.filter(name=uid).exists():
            device.name = uid
    return device


def public_keys() -> dict[str, Any]:
    """The keys that sign images, as a JWK Set (RFC 7517)."""
    close_old_connections()
    return {"keys": published_keys()}
