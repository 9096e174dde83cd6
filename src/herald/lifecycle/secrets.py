"""The secret by which a device is known: issued anew, or revoked."""

import secrets
from datetime import datetime

from django.db import transaction

from herald.fleet.models import Admission, Device, RefusalCause
from herald.fleet.registration import forget_refusals, write_secret
from herald.fleet.secrets import hash_secret
from herald.http.errors import Conflict
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record


def issue_secret(device: Device, *, actor: User | None, now: datetime) -> str:
    """A new secret, which is shown this once and stored hashed; the one of before stops working at once.

    Raises:
        Conflict: the device is retired.
    """
    secret = secrets.token_urlsafe(32)
    _write(device, hash_secret(secret), f"Issued a new secret for {device.name}", actor, now)
    return secret


def revoke_secret(device: Device, *, actor: User | None, now: datetime) -> None:
    """Let no call in by the secret of now. The device enrols again with any code that is valid, and stays what it is.

    Raises:
        Conflict: the device is retired, or has no secret.
    """
    if device.secret_hash is None:
        raise Conflict(f"{device.name} has no secret; it can enrol with any valid code.")
    _write(device, None, f"Revoked the secret of {device.name}; it may enrol again", actor, now)


def _write(device: Device, secret_hash: str | None, sentence: str, actor: User | None, now: datetime) -> None:
    with transaction.atomic():
        locked = Device.objects.select_for_update(no_key=True).get(pk=device.pk)
        if locked.admission == Admission.RETIRED:
            raise Conflict(f"{device.name} is retired, so it has no use for a secret. Admit it first.")
        write_secret(device, secret_hash)
        forget_refusals(device.uid, RefusalCause.ENROLLED)
        record(now=now, actor=actor, kind="device", object_id=device.pk, sentence=sentence)
    notify("fleet")
