"""API tokens: made, listed, revoked, and read from requests. Their letters are kept nowhere; each act is on record."""

from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import QuerySet
from knox.auth import TokenAuthentication as ByDigest
from knox.models import AuthToken
from rest_framework.exceptions import AuthenticationFailed

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
        now = clock.now()
        if details.used_at is None or now - details.used_at >= USED_EVERY:
            ApiToken.objects.filter(pk=details.pk).update(used_at=now)
        user.by_token = details
        return user, token


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
