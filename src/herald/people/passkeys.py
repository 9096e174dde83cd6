"""Passkeys (WebAuthn, level 2): keys on a person's own devices, which sign them in without a password or a code.

A device uses one only after it has checked who holds it, by a finger, a face or a PIN: it counts as both factors. A
challenge is signed by the installation and says when it was made, so nothing is kept for whoever only asks for one; a
passkey answers none that is older than the last it answered. All goes by real time.
"""

import ipaddress
import json
import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import structlog
import webauthn
from django.core import signing
from django.db import IntegrityError, transaction
from django.http.request import split_domain_port
from webauthn.helpers import base64url_to_bytes, bytes_to_base64url, structs

from herald.http.errors import Conflict, Invalid, NotFound
from herald.people.accounts import note
from herald.people.models import OpenSession, Passkey, User
from herald.people.second_factor import check_own_password, has_second_factor
from herald.people.set_up_first import is_wanted_of
from herald.people.throttling import NotProved

RP_NAME = "Brisk Herald"
#: a challenge may be answered for so long
ANSWERED_WITHIN = timedelta(minutes=5)
LONGEST_NAME, MOST_PASSKEYS = 60, 20
#: what a challenge is for: signing in, or showing who one is; a new passkey's says for whom, besides
_TO_USE, _TO_ADD = "use", "add"
_SALT = "passkeys"
log = structlog.get_logger()


class Refused(Exception):
    """What a browser sent is not by a passkey that opens anything here."""


@dataclass(frozen=True, kw_only=True)
class PasskeySite:
    """By which name passkeys know this installation, and the pages that may ask for them."""

    name: str
    origins: list[str]


def site_of(host: str) -> PasskeySite:
    """The site as it is asked for, by the host of a request ("herald.example", "localhost:8000").

    Raises:
        Conflict: it is asked for by an address, for which browsers keep no passkeys.
    """
    name, _ = split_domain_port(host)
    if _is_address(name):
        raise Conflict("Passkeys belong to a name: open Brisk Herald by its host name, not by a number.")
    is_here = name == "localhost" or name.endswith(".localhost")
    return PasskeySite(name=name, origins=[f"https://{host}", *([f"http://{host}"] if is_here else [])])


def options_to_sign_in(site: PasskeySite, *, real_now: datetime) -> dict[str, Any]:
    """What a browser needs to be asked for a passkey, whoever's it is: `PublicKeyCredentialRequestOptionsJSON`."""
    options = webauthn.generate_authentication_options(
        rp_id=site.name,
        challenge=_challenge(_TO_USE, real_now),
        user_verification=structs.UserVerificationRequirement.REQUIRED,
    )
    return _as_json(options)


def options_to_add(user: User, site: PasskeySite, *, real_now: datetime) -> dict[str, Any]:
    """What a browser needs to make a passkey for a person: `PublicKeyCredentialCreationOptionsJSON`.

    Raises:
        Conflict: they have as many as one may.
    """
    known = list(Passkey.objects.filter(person=user))
    if len(known) >= MOST_PASSKEYS:
        raise Conflict(f"You have {MOST_PASSKEYS} passkeys, the most that there may be. Remove one first.")
    return _options_to_add(user.email, user.name, known, f"{_TO_ADD} {user.pk}", site, real_now)


def options_to_accept(email: str, secret: str, site: PasskeySite, *, real_now: datetime) -> dict[str, Any]:
    """The same for whoever accepts an invitation; `secret` is that of its link."""
    return _options_to_add(email, email, [], f"{_TO_ADD} {secret}", site, real_now)


def add(
    user: User,
    name: str,
    made: Mapping[str, Any],
    site: PasskeySite,
    *,
    session_key: str | None,
    now: datetime,
    real_now: datetime,
) -> None:
    """Add the passkey that a browser has made for a person; their session is as good as one that began with it.

    Raises:
        Invalid: the name is taken or empty, or what was made will not do.
    """
    name = name.strip()
    if not name:
        raise Invalid("/name", "Give it a name, as that of the device that holds it.")
    if Passkey.objects.filter(person=user, name=name).exists():
        raise Invalid("/name", f"You have a passkey named “{name}” already.")
    passkey = _made(made, f"{_TO_ADD} {user.pk}", site, now, real_now)
    passkey.person, passkey.name = user, name
    try:
        with transaction.atomic():
            passkey.save()
            OpenSession.objects.filter(user=user, key=session_key or "").update(is_strong=True)
            note(f"Added the passkey “{name}”", user, user.pk, now)
    except IntegrityError:
        raise Invalid("/credential", "This passkey is here already.") from None


def made_for_invitation(
    secret: str, made: Mapping[str, Any], site: PasskeySite, *, now: datetime, real_now: datetime
) -> Passkey:
    """The passkey that was made by whoever accepts an invitation; it is nobody's yet, and not kept.

    Raises:
        Invalid: what was made will not do.
    """
    passkey = _made(made, f"{_TO_ADD} {secret}", site, now, real_now)
    if Passkey.objects.filter(credential=passkey.credential).exists():
        raise Invalid("/passkey", "This passkey is here already.")
    passkey.name = "First passkey"
    return passkey


def remove(user: User, passkey_id: int, *, now: datetime) -> None:
    """Remove one of a person's passkeys.

    Raises:
        NotFound: they have no such passkey. Conflict: without it they could not sign in any more, or only by a
            password where more is wanted.
    """
    with transaction.atomic():
        person = User.objects.select_for_update().get(pk=user.pk)
        passkey = Passkey.objects.filter(person=person, pk=passkey_id).first()
        if passkey is None:
            raise NotFound("You have no such passkey.")
        is_last = person.passkeys.count() == 1
        if is_last and not person.has_usable_password():
            raise Conflict("You have no password, and this is your only passkey. Set a password, or add another first.")
        if is_last and is_wanted_of(person) and not has_second_factor(person):
            raise Conflict("A password alone is not enough for your role. Add another passkey, or set up an app first.")
        passkey.delete()
        note(f"Removed the passkey “{passkey.name}”", user, user.pk, now)


def prove(
    user: User,
    password: str,
    assertion: Mapping[str, Any] | None,
    site: PasskeySite,
    *,
    now: datetime,
    real_now: datetime,
) -> None:
    """Make sure that whoever sits at an open session is who signed in: by the password, and where there is none, by a
    passkey.

    Raises:
        NotProved: it is another password, or no passkey of theirs.
    """
    if user.has_usable_password():
        check_own_password(user, password)
        return
    try:
        found = person_by(assertion or {}, site, now=now, real_now=real_now)
    except Refused:
        found = None
    if found is None or found.pk != user.pk:
        raise NotProved("/assertion", "Show by one of your passkeys that it is you.")


def person_by(assertion: Mapping[str, Any], site: PasskeySite, *, now: datetime, real_now: datetime) -> User:
    """Whom a passkey signs in that a browser was asked for.

    Raises:
        Refused: it is nobody's here, or does not answer a challenge of ours, or its person may not sign in.
    """
    with transaction.atomic():
        found = Passkey.objects.select_for_update(of=("self",)).select_related("person")
        passkey = found.filter(credential=str(assertion.get("id", ""))[:1400].rstrip("=")).first()
        if passkey is None or not passkey.person.is_active:
            raise Refused("there is no such passkey")
        challenge, made_at = _answered(assertion, _TO_USE, real_now)
        if made_at <= passkey.challenge_at:
            raise Refused("its challenge was answered before")
        try:
            verified = webauthn.verify_authentication_response(
                credential=dict(assertion),
                expected_challenge=challenge,
                expected_rp_id=site.name,
                expected_origin=site.origins,
                credential_public_key=bytes(passkey.public_key),
                credential_current_sign_count=passkey.uses,
                require_user_verification=True,
            )
        except Exception as error:  # whatever a stranger sends is refused, however it is broken
            raise _refused(error) from error
        passkey.uses, passkey.challenge_at, passkey.used_at = verified.new_sign_count, made_at, now
        passkey.save(update_fields=["uses", "challenge_at", "used_at"])
    return passkey.person


def _options_to_add(
    email: str, shown: str, known: list[Passkey], purpose: str, site: PasskeySite, real_now: datetime
) -> dict[str, Any]:
    handle = base64url_to_bytes(known[0].handle) if known else secrets.token_bytes(32)
    options = webauthn.generate_registration_options(
        rp_id=site.name,
        rp_name=RP_NAME,
        user_id=handle,
        user_name=email,
        user_display_name=shown,
        challenge=_challenge(f"{purpose} {bytes_to_base64url(handle)}", real_now),
        exclude_credentials=[structs.PublicKeyCredentialDescriptor(id=base64url_to_bytes(p.credential)) for p in known],
        authenticator_selection=structs.AuthenticatorSelectionCriteria(
            resident_key=structs.ResidentKeyRequirement.REQUIRED,  # to sign in without saying who one is
            user_verification=structs.UserVerificationRequirement.REQUIRED,
        ),
    )
    return _as_json(options)


def _made(made: Mapping[str, Any], purpose: str, site: PasskeySite, now: datetime, real_now: datetime) -> Passkey:
    try:
        challenge, made_at = _answered(made, purpose, real_now)
        verified = webauthn.verify_registration_response(
            credential=dict(made),
            expected_challenge=challenge,
            expected_rp_id=site.name,
            expected_origin=site.origins,
            require_user_verification=True,
        )
    except Exception as error:  # whatever is sent is refused, however it is broken
        _refused(error)
        raise Invalid("/credential", "Your browser’s passkey does not fit. Begin anew.") from error
    return Passkey(
        credential=bytes_to_base64url(verified.credential_id),
        handle=_read(challenge)[0].rsplit(" ", 1)[1],
        public_key=verified.credential_public_key,
        uses=verified.sign_count,
        challenge_at=made_at,
        added_at=now,
    )


def _challenge(purpose: str, real_now: datetime) -> bytes:
    made_at = int(real_now.timestamp() * 1000)
    return signing.dumps([purpose, made_at, secrets.token_urlsafe(16)], salt=_SALT).encode()


def _read(challenge: bytes) -> tuple[str, int]:
    """What a challenge is for, and when it was made; BadSignature where it is none of ours."""
    purpose, made_at, _ = signing.loads(challenge.decode(), salt=_SALT)
    return purpose, made_at


def _answered(credential: Mapping[str, Any], purpose: str, real_now: datetime) -> tuple[bytes, int]:
    """The challenge that was answered, and when it was made.

    Raises:
        Refused: it is none of ours, for something else, or too old.
    """
    try:
        said = json.loads(base64url_to_bytes(credential["response"]["clientDataJSON"]))
        challenge = base64url_to_bytes(said["challenge"])
        found, made_at = _read(challenge)
    except Exception as error:  # whatever a stranger sends
        raise _refused(error) from error
    age = real_now.timestamp() * 1000 - made_at
    is_for_it = found == purpose or (purpose.startswith(_TO_ADD) and found.rsplit(" ", 1)[0] == purpose)
    if not is_for_it or not 0 <= age <= ANSWERED_WITHIN.total_seconds() * 1000:
        raise Refused("its challenge is for something else, or too old")
    return challenge, made_at


def _refused(error: Exception) -> Refused:
    log.info("passkey_refused", error=f"{type(error).__name__}: {error}"[:300])
    return Refused("it does not fit")


def _as_json(options: Any) -> dict[str, Any]:
    read: dict[str, Any] = json.loads(webauthn.options_to_json(options))
    return read


def _is_address(name: str) -> bool:
    try:
        ipaddress.ip_address(name.strip("[]"))
    except ValueError:
        return False
    return True
