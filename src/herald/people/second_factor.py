"""The second factor: codes of an authenticator app (TOTP, RFC 6238), and recovery codes for whoever has lost it.

Its secret is kept encrypted by the installation's key, recovery codes as digests. It goes by real time.
"""

import base64
import hashlib
import secrets
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

import pyotp
import segno
from cryptography.fernet import Fernet, InvalidToken
from django.conf import settings
from django.db import transaction
from django.db.models import QuerySet

from herald.http.errors import Conflict, Invalid
from herald.people.accounts import locked, note
from herald.people.models import OpenSession, RecoveryCode, SecondFactor, User
from herald.people.sessions import end_sessions
from herald.people.set_up_first import is_wanted_of
from herald.people.throttling import NotProved

ISSUER = "Brisk Herald"
RECOVERY_CODES = 10
#: a code holds for so long, and so many before and after it are taken for a phone whose clock is off
STEP, STEPS_OFF = timedelta(seconds=30), 1
_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"  # none that is read as another


@dataclass(frozen=True, kw_only=True)
class Setup:
    """What an app needs to make codes: the secret to type, the same as an address, and its picture."""

    secret: str
    address: str
    picture: str


@dataclass(frozen=True, kw_only=True)
class Standing:
    """Whether somebody has a second factor, since when, and how many recovery codes are left."""

    since: datetime | None
    recovery_codes: int


def turned_on() -> "QuerySet[SecondFactor]":
    """Second factors that count: a first code of them was given."""
    return SecondFactor.objects.exclude(confirmed_at=None)


def standing(user: User) -> Standing:
    """Whether a person has a second factor."""
    factor = turned_on().filter(person=user).first()
    left = RecoveryCode.objects.filter(person=user, used_at=None).count() if factor else 0
    return Standing(since=factor.confirmed_at if factor else None, recovery_codes=left)


def begin(user: User, password: str) -> Setup:
    """Make a new secret, which counts once a code of it is given; one that was begun before is forgotten.

    Raises:
        Invalid: the password is another. Conflict: there is a second factor already.
    """
    check_own_password(user, password)
    secret = pyotp.random_base32()
    with transaction.atomic():
        if has_second_factor(user):
            raise Conflict("You have a second factor already. Take it off before you set up another app.")
        SecondFactor.objects.update_or_create(person=user, defaults={"secret": _sealed(secret), "last_step": 0})
    address = pyotp.TOTP(secret).provisioning_uri(name=user.email, issuer_name=ISSUER)
    picture = segno.make(address, error="m").svg_data_uri(scale=4, border=2, light="#fff")
    return Setup(secret=secret, address=address, picture=picture)


def confirm(user: User, code: str, *, session_key: str | None, now: datetime, real_now: datetime) -> list[str]:
    """Turn the second factor on that was begun, with a first code of it. Every other session ends; the recovery codes,
    which are told this once.

    Raises:
        Conflict: none was begun, or it is on already. Invalid: the code is another.
    """
    with transaction.atomic():
        factor = SecondFactor.objects.select_for_update().filter(person=user, confirmed_at=None).first()
        if factor is None:
            raise Conflict("Begin anew: no second factor waits for its first code.")
        if not _takes(factor, code, real_now):
            raise Invalid("/code", "This is not the code that the app shows now. Is the phone’s clock right?")
        factor.confirmed_at = now
        factor.save(update_fields=["confirmed_at", "last_step"])
        codes = _new_codes(user)
        end_sessions(OpenSession.objects.filter(user=user).exclude(key=session_key or ""))
        OpenSession.objects.filter(key=session_key or "").update(is_strong=True)
        note("Turned their second factor on", user, user.pk, now)
    return codes


def renew_codes(user: User, password: str, *, now: datetime) -> list[str]:
    """New recovery codes; those from before open nothing any more.

    Raises:
        Invalid: the password is another. Conflict: there is no second factor.
    """
    check_own_password(user, password)
    with transaction.atomic():
        if not has_second_factor(user):
            raise Conflict("There is no second factor that codes could recover.")
        codes = _new_codes(user)
        note("Made new recovery codes", user, user.pk, now)
    return codes


def take_off(user: User, password: str, code: str, *, now: datetime, real_now: datetime) -> None:
    """Turn the second factor off, by the password and a code together.

    Raises:
        Invalid: the password or the code is another. Conflict: there is no second factor, or one is wanted and there is
            no other.
    """
    check_own_password(user, password)
    if not has_second_factor(user):
        raise Conflict("There is no second factor.")
    if is_wanted_of(user) and not user.passkeys.exists():
        raise Conflict("A password alone is not enough for your role. Add a passkey first, then turn this off.")
    with transaction.atomic():
        if not holds(user, code, now=now, real_now=real_now):
            raise NotProved("/code", "This is neither the code that the app shows now nor a recovery code.")
        _forget(user)
        note("Turned their second factor off", user, user.pk, now)


def reset(user_id: int, *, actor: User, now: datetime) -> None:
    """Take the second factor off somebody who has lost it with all codes; they sign in by their password and set up
    another.

    Raises:
        NotFound: there is no such account. Conflict: it is one's own, or there is none.
    """
    if actor.pk == user_id:
        raise Conflict("Your own you take off on your account’s page, or another administrator does.")
    with transaction.atomic():
        user = locked([user_id])[0]
        if not has_second_factor(user):
            raise Conflict(f"{user} has no second factor.")
        _forget(user)
        note(f"Took the second factor off {user}", actor, user.pk, now)


def has_second_factor(user: User) -> bool:
    """Whether somebody signs in with a code besides the password."""
    return turned_on().filter(person=user).exists()


def holds(user: User, code: str, *, now: datetime, real_now: datetime) -> bool:
    """Whether a code is the app's of now, or a recovery code. Each is taken once."""
    with transaction.atomic():
        factor = turned_on().select_for_update().filter(person=user).first()
        if factor is None:
            return False
        if _takes(factor, code, real_now):
            factor.save(update_fields=["last_step"])
            return True
        unused = RecoveryCode.objects.filter(person=user, digest=_digest(code), used_at=None)
        if not unused.update(used_at=now):
            return False
        left = RecoveryCode.objects.filter(person=user, used_at=None).count()
        note(f"Used a recovery code; {left} are left", user, user.pk, now)
    return True


def _takes(factor: SecondFactor, code: str, real_now: datetime) -> bool:
    """Whether a code is of now and later than the last one; then it is the last."""
    try:
        app = pyotp.TOTP(_opened(factor.secret))
    except InvalidToken:  # the installation's key is another: an administrator resets it
        return False
    digits = "".join(c for c in code if c in "0123456789")
    step = int(real_now.timestamp()) // int(STEP.total_seconds())
    for candidate in range(step - STEPS_OFF, step + STEPS_OFF + 1):
        if candidate > factor.last_step and secrets.compare_digest(app.generate_otp(candidate), digits):
            factor.last_step = candidate
            return True
    return False


def _new_codes(user: User) -> list[str]:
    codes = ["-".join(_four() for _ in range(4)) for _ in range(RECOVERY_CODES)]
    RecoveryCode.objects.filter(person=user).delete()
    RecoveryCode.objects.bulk_create([RecoveryCode(person=user, digest=_digest(code)) for code in codes])
    return codes


def _four() -> str:
    return "".join(secrets.choice(_LETTERS) for _ in range(4))


def _forget(user: User) -> None:
    SecondFactor.objects.filter(person=user).delete()
    RecoveryCode.objects.filter(person=user).delete()


def check_own_password(user: User, password: str) -> None:
    """Make sure that whoever sits at an open session knows its password.

    Raises:
        NotProved: it is another.
    """
    if not user.check_password(password):
        raise NotProved("/password", "This is not your password.")


def _digest(code: str) -> str:
    return hashlib.sha256("".join(c for c in code.lower() if c in _LETTERS).encode()).hexdigest()


def _cipher() -> Fernet:
    key = hashlib.sha256(b"second factors " + settings.SECRET_KEY.encode()).digest()
    return Fernet(base64.urlsafe_b64encode(key))


def _sealed(secret: str) -> str:
    return _cipher().encrypt(secret.encode()).decode()


def _opened(sealed: str) -> str:
    return _cipher().decrypt(sealed.encode()).decode()


def real_time() -> datetime:
    """Real time, by which codes go, whatever the demo's clock says."""
    return datetime.now(UTC)
