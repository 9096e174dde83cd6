"""API tokens: made, listed, revoked, and read from requests. Their letters are kept nowhere; each act is on record."""

from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import QuerySet
from django.http import HttpRequest
from django.http.response import HttpResponseBase
from knox.auth import TokenAuthentication as ByDigest
from knox.models import AuthToken
from rest_framework.exceptions import AuthenticationFailed

from herald.db.limits import beyond_limits
from herald.http.errors import InvalidFields, NotFound
from herald.people.models import ApiToken, User
from herald.record.services import record
from herald.time import clock

#: how exactly it is known when a token was used last
USED_EVERY = timedelta(minutes=1)


class TokenAuthentication(ByDigest):  # type: ignore[misc]  # knox has no types
    """Reads the token of a request: whose it is, and what it opens."""

    def validate_user(self, auth_token: AuthToken) -> tuple[User, Any]:
        user, token = super().validate_user(auth_token)
        details = ApiToken.objects.filter(token=token).first()
        if details is None:  # of which it is not known what it opens, opens nothing
            raise AuthenticationFailed("Invalid token.")
        user.by_token = details
        return user, token


class LastUsed:
    """Middleware: notes when a token was used last. After the answer, as a row that is written before is held until the
    act is done, and other requests with the same token would wait for it."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        answer = self._get_response(request)
        if "Authorization" in request.headers and isinstance(request.user, User):
            note_use(request.user)
        return answer


def note_use(user: User) -> None:
    """Keep that the token by which somebody is signed in was used just now."""
    token, now = user.by_token, clock.now()
    if token is not None and (token.used_at is None or now - token.used_at >= USED_EVERY):
        with beyond_limits():
            ApiToken.objects.filter(pk=token.pk).update(used_at=now)


def make_token(
    user: User,
    *,
    name: str,
    days: int | None,
    now: datetime,
    reads_only: bool = False,
    is_limited: bool = False,
    words: str = "",
) -> tuple[str, ApiToken]:
    """A new token: its letters, which are shown once, and what it is. It expires after so many days (of real time), or
    never; it may only read, or what its owner may. `words` say to what it is limited.

    Raises:
        InvalidFields: its owner has one of this name.
    """
    with transaction.atomic():
        if tokens_of(user).filter(name=name).exists():
            raise InvalidFields([("/name", f"You have a token called “{name}”; revoke it, or call this another.")])
        token, letters = AuthToken.objects.create(user, expiry=timedelta(days=days) if days else None)
        made = ApiToken.objects.create(user=user, token=token, name=name, reads_only=reads_only, is_limited=is_limited)
        parts = [f"for {days} days"] if days else []
        parts += ["which only reads"] if reads_only else []
        parts += [words] if words else []
        sentence = ", ".join([f"Made the token “{name}”", *parts])
        record(now=now, actor=user, kind="token", object_id=user.pk, sentence=sentence)
    return str(letters), made


def tokens_of(user: User) -> "QuerySet[ApiToken]":
    """A person's tokens that open something, the latest first."""
    return ApiToken.objects.filter(user=user, token__isnull=False).select_related("token").order_by("-id")


def revoke_token(user: User, token_id: int, *, now: datetime) -> None:
    """Let a token open nothing any more.

    Raises:
        NotFound: this person has no such token.
    """
    with transaction.atomic():
        found = tokens_of(user).filter(pk=token_id).first()
        if found is None or found.token is None:
            raise NotFound("You have no such token.")
        found.token.delete()
        record(now=now, actor=user, kind="token", object_id=user.pk, sentence=f"Revoked the token “{found.name}”")
