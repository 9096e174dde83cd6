"""Where somebody is signed in: noted as they sign in and as their requests are seen, listed on their page, ended."""

from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

from django.contrib.sessions.models import Session
from django.db.models import Case, F, QuerySet, When
from django.http import HttpRequest
from django.http.response import HttpResponseBase
from django.utils import timezone

from herald.http.errors import NotFound
from herald.intervals import Intervals
from herald.people.addresses import client_address
from herald.people.models import OpenSession, User
from herald.time import clock

#: how exactly it is known when somebody was last seen, in real time
SEEN_EVERY = timedelta(minutes=1)
#: who was not seen for so long, of the installation's time, was away
AWAY_AFTER = timedelta(minutes=30)


def note_sign_in(request: HttpRequest, user: User, *, is_strong: bool) -> None:
    """Keep where somebody has just signed in, and whether by more than a password."""
    now = clock.now()
    # whoever signs in where they are signed in already goes on with the same session
    OpenSession.objects.update_or_create(
        key=request.session.session_key or "",
        defaults={
            "user": user,
            "began_at": now,
            "seen_at": now,
            "address": client_address(request),
            "is_strong": is_strong,
            "agent": request.headers.get("User-Agent", "")[:300],
        },
    )
    _note_seen(User.objects.filter(pk=user.pk), now)


def _note_seen(people: "QuerySet[User]", now: datetime) -> None:
    """Keep when somebody was seen, and, where they had been away, until when they were here before."""
    was_away = When(seen_at__lt=now - AWAY_AFTER, then=F("seen_at"))
    people.update(seen_at=now, last_visit_ended_at=Case(was_away, default=F("last_visit_ended_at")))


def sessions_of(user: User) -> "QuerySet[OpenSession]":
    """Where a person is signed in, the one used last first; those that ran out by themselves are forgotten."""
    known = OpenSession.objects.filter(user=user)
    going_on = set(Session.objects.filter(session_key__in=known.values("key")).values_list("session_key", flat=True))
    known.exclude(key__in=going_on).delete()
    return known.order_by("-seen_at", "-id")


def end_session(user: User, session_id: int) -> None:
    """End one of a person's sessions.

    Raises:
        NotFound: this person is not signed in there.
    """
    if not end_sessions(OpenSession.objects.filter(user=user, pk=session_id)):
        raise NotFound("You are not signed in there any more.")


def forget_expired() -> int:
    """Forget sessions that ran out by themselves; how many."""
    gone, _ = Session.objects.filter(expire_date__lt=timezone.now()).delete()
    OpenSession.objects.exclude(key__in=Session.objects.values("session_key")).delete()
    return gone


def end_sessions(sessions: "QuerySet[OpenSession]") -> int:
    """End these sessions; how many there were."""
    keys = list(sessions.values_list("key", flat=True))
    Session.objects.filter(session_key__in=keys).delete()
    OpenSession.objects.filter(key__in=keys).delete()
    return len(keys)


class LastSeen:
    """Middleware: notes when somebody was last seen. Each process remembers what it wrote, so most requests ask and
    write nothing."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self._get_response = get_response
        self._written = Intervals()

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        answer = self._get_response(request)
        session: Any = getattr(request, "session", None)
        key = session.session_key if session is not None else None
        if key and self._written.is_time(key, SEEN_EVERY.total_seconds()):
            now = clock.now()
            if OpenSession.objects.filter(key=key).update(seen_at=now):
                _note_seen(User.objects.filter(open_sessions__key=key), now)
        return answer
