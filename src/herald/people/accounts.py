"""Who may sign in: invited, changed, disabled and removed by administrators. Each act is put on record.

One administrator who can sign in is always left; the database holds that, too.
"""

import hashlib
import secrets
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.db import IntegrityError, transaction
from knox.models import AuthToken

from herald.http.errors import Conflict, Invalid, InvalidFields, NotFound
from herald.live.notify import notify
from herald.people.models import Invitation, OpenSession, Passkey, RecoveryCode, Role, SecondFactor, User
from herald.people.sessions import end_sessions
from herald.people.set_up_first import is_wanted_of
from herald.record.models import Kind
from herald.record.services import record
from herald_core.timing.clocks import is_zone

#: an invitation is good for so long
INVITED_FOR = timedelta(days=7)
LONGEST_NAME = 100
#: told whenever people lose their account, with their ids, so that other rooms let go of what they held
on_gone: list[Callable[[Collection[int], datetime], None]] = []
#: told of each account that an invitation makes, with the invitation
on_accepted: list[Callable[[User, Invitation], None]] = []


@dataclass(frozen=True, kw_only=True)
class Invited:
    """An invitation that was made just now, with the secret of its link, which is told only this once."""

    invitation: Invitation
    secret: str


def invite(
    emails: Sequence[str],
    role: Role,
    *,
    limits: Mapping[str, list[int]] | None = None,
    actor: User | None,
    now: datetime,
) -> list[Invited]:
    """Invite people to make accounts, all or none. Whoever was invited before gets a new link; the old one ends.
    `limits` are what the accounts will be limited to; None to nothing.

    Raises:
        InvalidFields: some have an account already, or are named twice; it says which.
    """
    wanted = [email.strip().lower() for email in emails]
    known = set(User.objects.filter(email__in=wanted).values_list("email", flat=True))
    problems = []
    for n, email in enumerate(wanted):
        if email in known:
            problems.append((f"/emails/{n}", f"{email} has an account already."))
        elif email in wanted[:n]:
            problems.append((f"/emails/{n}", f"{email} is named twice."))
    if problems:
        raise InvalidFields(problems)
    made = []
    with transaction.atomic():
        for email in wanted:
            secret = secrets.token_urlsafe(32)
            invitation, _ = Invitation.objects.update_or_create(
                email=email,
                defaults={
                    "role": role,
                    "limits": limits,
                    "digest": _digest(secret),
                    "invited_by": actor,
                    "made_at": now,
                    "expires_at": now + INVITED_FOR,
                },
            )
            made.append(Invited(invitation=invitation, secret=secret))
            within = "" if limits is None else ", limited"
            note(f"Invited {email} as {role.label.lower()}{within}", actor, invitation.pk, now)
    return made


def new_link(user_id: int, *, actor: User, now: datetime) -> Invited:
    """A link by which somebody who has lost what they sign in with opens their account anew. Until it is used, what
    they have goes on.

    Raises:
        NotFound: there is no such account. Conflict: it is disabled, or one's own.
    """
    _not_oneself([user_id], actor, "send a new link to")
    with transaction.atomic():
        user = locked([user_id])[0]
        if not user.is_active:
            raise Conflict(f"{user} is disabled. Enable the account first.")
        secret = secrets.token_urlsafe(32)
        invitation, _ = Invitation.objects.update_or_create(
            email=user.email,
            defaults={
                "person": user,
                "role": user.role,
                "digest": _digest(secret),
                "invited_by": actor,
                "made_at": now,
                "expires_at": now + INVITED_FOR,
            },
        )
        note(f"Made a link by which {user} opens their account anew", actor, user.pk, now)
    return Invited(invitation=invitation, secret=secret)


def _open_anew(invitation: Invitation, user: User, password: str, passkey: Passkey | None, now: datetime) -> None:
    """Give somebody another password, or a passkey in its place; whatever signed them in before does no more."""
    if (passkey is None or password) and (problems := password_problems(password, user)):
        raise InvalidFields(problems)
    forget_ways_in([user.pk])
    user.set_password(password or None)
    user.save(update_fields=["password"])
    if passkey is not None:
        passkey.person = user
        passkey.save()
    end_sessions(OpenSession.objects.filter(user=user))
    invitation.delete()
    note("Opened their account anew by a link", user, user.pk, now)


def forget_ways_in(user_ids: Collection[int]) -> None:
    """Forget the second factors, recovery codes and passkeys of people."""
    SecondFactor.objects.filter(person__in=user_ids).delete()
    RecoveryCode.objects.filter(person__in=user_ids).delete()
    Passkey.objects.filter(person__in=user_ids).delete()


def revoke_invitation(invitation_id: int, *, actor: User | None, now: datetime) -> None:
    """Let an invitation's link open nothing any more.

    Raises:
        NotFound: there is no such invitation; it may have been accepted.
    """
    with transaction.atomic():
        invitation = Invitation.objects.select_for_update().filter(pk=invitation_id).first()
        if invitation is None:
            raise NotFound("There is no such invitation. It may have been accepted.")
        invitation.delete()
        note(f"Took back the invitation of {invitation.email}", actor, invitation_id, now)


def invitation_by(secret: str, *, now: datetime, for_update: bool = False) -> Invitation:
    """The invitation that a link's secret opens.

    Raises:
        NotFound: it is used, taken back, run out, or never was.
    """
    found = Invitation.objects.select_for_update(of=("self",)) if for_update else Invitation.objects.all()
    invitation = found.select_related("invited_by", "person").filter(digest=_digest(secret), expires_at__gt=now).first()
    if invitation is None:
        raise NotFound("This invitation is used, taken back or run out. Ask an administrator for a new one.")
    return invitation


def accept(
    secret: str, *, name: str, password: str, time_zone: str, now: datetime, passkey: Passkey | None = None
) -> User:
    """Make the account that an invitation is for, or open it anew, with the name and the clock that it has; it can be
    used once. Where a passkey is given, which is new and of nobody yet, the account signs in with that, and the
    password may be empty: then it has none.

    Raises:
        NotFound: as above. InvalidFields: the name, password or time zone will not do; it says why.
    """
    with transaction.atomic():
        invitation = invitation_by(secret, now=now, for_update=True)
        if invitation.person is not None:
            user = locked([invitation.person.pk])[0]
            if not user.is_active:
                raise NotFound("This account is disabled.")
            _open_anew(invitation, user, password, passkey, now)
            return user
        user = User(email=invitation.email, role=invitation.role, time_zone=time_zone, name=name.strip(), joined_at=now)
        user.is_limited = invitation.limits is not None
        has_password = passkey is None or password != ""
        problems = [*name_problems(name), *zone_problems(time_zone)]
        if has_password:
            problems += password_problems(password, user)
        if problems:
            raise InvalidFields(problems)
        user.set_password(password if has_password else None)
        try:
            with transaction.atomic():
                user.save()
                if passkey is not None:
                    passkey.person = user
                    passkey.save()
        except IntegrityError:
            raise Conflict(f"{invitation.email} has an account already. Sign in with it.") from None
        for tell in on_accepted:
            tell(user, invitation)
        invitation.delete()
        note(f"Made an account as {user.get_role_display().lower()}, by invitation", user, user.pk, now)
    return user


def change_person(user_id: int, *, role: Role | None, name: str | None, actor: User | None, now: datetime) -> User:
    """Give a person another role or name; None leaves it.

    Raises:
        NotFound: there is no such account. Invalid: the name will not do. Conflict: no administrator would be left, or
            one would be limited.
    """
    with transaction.atomic(), _administrator_left():
        user = locked([user_id])[0]
        was = (user.role, user.name)
        if name is not None and (problems := name_problems(name)):
            raise Invalid(*problems[0])
        if role == Role.ADMINISTRATOR and user.is_limited:
            raise Conflict(f"{user} is limited to some devices, and administrators see all. Lift the limits first.")
        user.role, user.name = role or user.role, name.strip() if name is not None else user.name
        if (user.role, user.name) == was:
            return user
        user.save(update_fields=["role", "name"])
        if is_wanted_of(user):
            end_sessions(OpenSession.objects.filter(user=user, is_strong=False))
        role_words = f"Made {user} {user.get_role_display().lower()}"
        words = role_words if user.role != was[0] else f"Renamed {was[1]} to {user}"
        note(words, actor, user.pk, now, before=_as_kept(*was), after=_as_kept(user.role, user.name))
    return user


def disable(user_ids: Sequence[int], *, actor: User, now: datetime) -> list[User]:
    """Keep people out until they are let in again: their sessions end, their tokens and feeds open nothing meanwhile.

    Raises:
        NotFound: there is no such account. Conflict: the actor is among them, or no administrator would be left.
    """
    _not_oneself(user_ids, actor, "disable")
    with transaction.atomic(), _administrator_left():
        people = [u for u in locked(user_ids) if u.is_active]
        User.objects.filter(pk__in=[u.pk for u in people]).update(is_active=False)
        _let_go(people, now)
        for user in people:
            note(f"Disabled {user}", actor, user.pk, now)
    return people


def enable(user_ids: Sequence[int], *, actor: User, now: datetime) -> list[User]:
    """Let people in again who were kept out.

    Raises:
        NotFound: there is no such account.
    """
    with transaction.atomic():
        people = [u for u in locked(user_ids) if not u.is_active]
        User.objects.filter(pk__in=[u.pk for u in people]).update(is_active=True)
        for user in people:
            note(f"Enabled {user}", actor, user.pk, now)
    return people


def remove(user_ids: Sequence[int], *, actor: User, now: datetime) -> list[User]:
    """Remove people for good: name, address, password, sessions and tokens go; what they did stays on record, by a
    “removed person” with a number. The address can be invited anew.

    Raises:
        NotFound, Conflict: as for `disable`.
    """
    _not_oneself(user_ids, actor, "remove")
    with transaction.atomic(), _administrator_left():
        people = locked(user_ids)
        _let_go(people, now)
        AuthToken.objects.filter(user__in=people).delete()
        forget_ways_in([u.pk for u in people])
        Invitation.objects.filter(person__in=people).delete()
        for user in people:
            user.email, user.name = f"removed-{user.pk}@removed.invalid", f"Removed person {user.pk}"
            user.is_active, user.removed_at, user.seen_at = False, now, None
            user.set_unusable_password()
            user.save()
            note(f"Removed an account of the role {user.get_role_display().lower()}", actor, user.pk, now)
    return people


def make_account(*, email: str, name: str, role: Role, time_zone: str, password: str, now: datetime) -> User:
    """Make an account at the command line, for which there is no invitation.

    Raises:
        InvalidFields: something about it will not do; it says what and why.
    """
    user = User(email=email.strip().lower(), name=name.strip() or email, role=role, time_zone=time_zone, joined_at=now)
    problems = [*name_problems(user.name), *zone_problems(time_zone), *password_problems(password, user)]
    try:
        validate_email(user.email)
    except ValidationError as error:
        problems.append(("/email", error.messages[0]))
    if User.objects.filter(email=user.email).exists():
        problems.append(("/email", f"{user.email} has an account already."))
    if problems:
        raise InvalidFields(problems)
    user.set_password(password)
    with transaction.atomic():
        user.save()
        note(f"Made the account {user.email}, {role.label.lower()}, at the command line", None, user.pk, now)
    return user


# -- what all of these share


def name_problems(name: str) -> list[tuple[str, str]]:
    """What is wrong with a person's name, by field."""
    if not name.strip():
        return [("/name", "Say what the record is to call this person.")]
    return [("/name", f"At most {LONGEST_NAME} letters.")] if len(name.strip()) > LONGEST_NAME else []


def zone_problems(time_zone: str) -> list[tuple[str, str]]:
    """What is wrong with a time zone, by field."""
    known = is_zone(time_zone)
    return [] if known else [("/time_zone", f"There is no time zone {time_zone}. Name one like Europe/Lisbon.")]


def password_problems(password: str, user: User, field: str = "/password") -> list[tuple[str, str]]:
    """Why a password will not do (NIST SP 800-63B: long, and none that is tried first), by field."""
    try:
        validate_password(password, user)
    except ValidationError as error:
        return [(field, message) for message in error.messages]
    return []


def locked(user_ids: Sequence[int]) -> list[User]:
    """These people, locked until the transaction ends.

    Raises:
        NotFound: there is no such account, or it was removed.
    """
    people = list(User.objects.select_for_update().filter(pk__in=user_ids, removed_at=None).order_by("pk"))
    if missing := set(user_ids) - {u.pk for u in people}:
        raise NotFound(f"There is no account {min(missing)}.")
    return people


def _not_oneself(user_ids: Sequence[int], actor: User, what: str) -> None:
    if actor.pk in user_ids:
        raise Conflict(f"You cannot {what} yourself; another administrator can.")


@contextmanager
def _administrator_left() -> Iterator[None]:
    """What would leave no administrator is refused in words: the database refuses it in any case."""
    try:
        with transaction.atomic():
            yield
    except IntegrityError as error:
        if "last administrator" not in str(error):
            raise
        words = "One administrator who can sign in must be left. Make another person administrator first."
        raise Conflict(words) from None


def _let_go(people: Sequence[User], now: datetime) -> None:
    ids = [u.pk for u in people]
    end_sessions(OpenSession.objects.filter(user__in=ids))
    for tell in on_gone:
        tell(ids, now)


def note(sentence: str, actor: User | None, object_id: int, now: datetime, **change: dict[str, str]) -> None:
    """Put an act about an account on record, and tell whoever looks at people."""
    record(now=now, actor=actor, kind=Kind.USER, object_id=object_id, sentence=sentence, **change)
    notify("people")


def _as_kept(role: str, name: str) -> dict[str, str]:
    return {"role": role, "name": name}


def _digest(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()
