"""What everybody changes about their own account."""

from datetime import datetime

from django.db import transaction

from herald.http.errors import InvalidFields
from herald.people.accounts import name_problems, password_problems, zone_problems
from herald.people.models import OpenSession, User
from herald.people.sessions import end_sessions
from herald.people.throttling import NotProved
from herald.record.models import Kind
from herald.record.services import record


def change_own(user: User, *, name: str, time_zone: str, now: datetime) -> User:
    """Give oneself another name or clock.

    Raises:
        InvalidFields: they will not do; it says why.
    """
    if problems := [*name_problems(name), *zone_problems(time_zone)]:
        raise InvalidFields(problems)
    before = {"name": user.name, "time_zone": user.time_zone}
    after = {"name": name.strip(), "time_zone": time_zone}
    if before == after:
        return user
    with transaction.atomic():
        user.name, user.time_zone = after["name"], after["time_zone"]
        user.save(update_fields=["name", "time_zone"])
        sentence = "Changed their own name or time zone"
        record(now=now, actor=user, kind=Kind.USER, object_id=user.pk, sentence=sentence, before=before, after=after)
    return user


def change_password(
    user: User, *, current: str, new: str, session_key: str | None, now: datetime, is_proved: bool = False
) -> int:
    """Set a new password. It ends every session but this one; how many that were. `is_proved` where somebody who has
    none has shown by a passkey who they are.

    Raises:
        NotProved: the current one is another. InvalidFields: the new one will not do.
    """
    if not is_proved and not user.check_password(current):
        raise NotProved("/current", "This is not your current password.")
    if problems := password_problems(new, user, "/new"):
        raise InvalidFields(problems)
    with transaction.atomic():
        user.set_password(new)
        user.save(update_fields=["password"])
        ended = end_sessions(OpenSession.objects.filter(user=user).exclude(key=session_key or ""))
        record(now=now, actor=user, kind=Kind.USER, object_id=user.pk, sentence="Changed their password")
    return ended
