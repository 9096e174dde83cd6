"""A device's first call: it shows an enrolment code and gets a secret of its own, once."""

import secrets
from datetime import datetime
from typing import Any

import msgspec
from django.db import close_old_connections, transaction

from herald.clock.source import clock
from herald.fleet.editing import sort_keys, version_attributes
from herald.fleet.models import Admission, Device, DeviceChange, DeviceModel, EnrolmentCode, announced_uid
from herald.fleet.secrets import hash_secret
from herald.fleet.vocabulary import attribute_defaults, load_vocabulary
from herald.gateway.messages import Refused
from herald.images.signing import published_keys
from herald.record.services import record
from herald_core.text import is_storable, nfc


class Enrolment(msgspec.Struct):
    uid: str
    model: str
    serial: str = ""
    hardware_revision: str = ""
    code: str = ""


_decoder = msgspec.json.Decoder(Enrolment)


def enrol(body: bytes) -> dict[str, Any]:
    """Take a new device in, or one that was registered and has no secret yet.

    Raises:
        Refused: the code is wrong, the model unknown, or the device has a secret already.
    """
    close_old_connections()
    try:
        message = _decoder.decode(body)
    except RecursionError:
        raise Refused(422, "malformed", "The body does not fit: it is nested too deeply") from None
    except (msgspec.ValidationError, msgspec.DecodeError, UnicodeDecodeError) as error:
        raise Refused(422, "malformed", f"The body does not fit: {error}") from error
    texts = (message.uid, message.serial, message.hardware_revision)
    if not message.uid.strip() or not all(is_storable(t) and len(t) <= 80 for t in texts):
        raise Refused(422, "bad-uid", "uid, serial and hardware_revision have at most 80 characters, uid at least one.")
    with transaction.atomic():
        code = _code(message.code, clock.now())
        model = DeviceModel.objects.filter(name=nfc(message.model)).first()
        if model is None:
            raise Refused(422, "unknown-model", f"model: this server knows no {message.model[:60]!r}.")
        secret = secrets.token_urlsafe(32)
        device = _taken_in(message, model, code, secret)
        DeviceChange.objects.note([device.pk], clock.now())
        sentence = f"{device.name} enrolled with the code “{code.label}”; it is {device.admission}"
        record(now=clock.now(), actor=None, kind="device", object_id=device.pk, sentence=sentence)
    return {"admission": device.admission, "secret": secret}


def _code(given: str, now: datetime) -> EnrolmentCode:
    """The code with these letters, locked, if it can still be used."""
    code = EnrolmentCode.objects.select_for_update(of=("self",)).filter(code_hash=hash_secret(given)).first()
    if code is None:
        raise Refused(401, "bad-code", "code: this enrolment code is not known.")
    if code.expires_at is not None and code.expires_at <= now:
        raise Refused(401, "expired-code", "code: this enrolment code has expired.")
    if code.uses_left == 0:
        raise Refused(401, "used-code", "code: this enrolment code was used as often as it may be.")
    return code


def _taken_in(message: Enrolment, model: DeviceModel, code: EnrolmentCode, secret: str) -> Device:
    uid = nfc(message.uid.strip())
    device = _announced(uid, nfc(message.serial))
    if device is not None and (device.secret_hash or device.admission == Admission.RETIRED):
        raise Refused(409, "enrolled", "uid: this device has a secret already; an engineer can take it back.")
    if device is None and code.known_only:
        raise Refused(403, "not-expected", "uid: this code is for devices that were announced, and this one was not.")
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


def _announced(uid: str, serial: str) -> Device | None:
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
