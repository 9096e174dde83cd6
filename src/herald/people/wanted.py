"""Of which roles more than a password is wanted: a passkey, or a code of an app.

Who has neither sets one up before anything else (`herald.people.set_up_first`). So nobody is locked out.
"""

from collections.abc import Collection
from datetime import datetime

from django.db import transaction

from herald.http.errors import Conflict
from herald.people.accounts import note
from herald.people.models import OpenSession, Role, User, WantedFactor
from herald.people.sessions import end_sessions
from herald_core.text import in_words


def wanted_roles() -> list[str]:
    """The roles of which more than a password is wanted."""
    return list(WantedFactor.objects.order_by("role").values_list("role", flat=True))


def want(roles: Collection[Role], *, actor: User, session_key: str | None, now: datetime) -> int:
    """Want more than a password of these roles, and of no others. Sessions of theirs that began by a password alone
    end; how many.

    Raises:
        Conflict: the actor's own session would be among them.
    """
    with transaction.atomic():
        before = wanted_roles()
        weak = OpenSession.objects.filter(user__role__in=roles, is_strong=False)
        if actor.role in roles and (session_key is None or weak.filter(key=session_key).exists()):
            raise Conflict("You are signed in by your password alone. Set up a passkey or an app for yourself first.")
        WantedFactor.objects.exclude(role__in=roles).delete()
        WantedFactor.objects.bulk_create([WantedFactor(role=r) for r in sorted(roles)], ignore_conflicts=True)
        ended = end_sessions(weak)
        after = wanted_roles()
        if after != before:
            whom = in_words([f"every {role}" for role in after]) or "nobody"
            sentence = f"Wanted more than a password of {whom}"
            change = {"before": {"roles": ", ".join(before)}, "after": {"roles": ", ".join(after)}}
            note(sentence, actor, actor.pk, now, **change)
    return ended
