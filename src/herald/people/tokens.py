"""Verbs on API tokens. Their letters are kept nowhere; each act is put on record."""

from datetime import datetime, timedelta

from django.db import transaction
from django.db.models import QuerySet
from knox.models import AuthToken

from herald.http.errors import NotFound
from herald.people.models import TokenName, User
from herald.record.services import record


def make_token(user: User, *, name: str, days: int | None, now: datetime) -> str:
    """A new token; its letters, which are shown once. It expires after so many days (of real time), or never."""
    with transaction.atomic():
        token, letters = AuthToken.objects.create(user, expiry=timedelta(days=days) if days else None)
        TokenName.objects.create(token=token, name=name)
        until = f", for {days} days" if days else ""
        record(now=now, actor=user, kind="token", object_id=user.pk, sentence=f"Made the token “{name}”{until}")
    return str(letters)


def tokens_of(user: User) -> "QuerySet[AuthToken]":
    """A person's tokens, the latest first."""
    found: QuerySet[AuthToken] = AuthToken.objects.filter(user=user).select_related("named").order_by("-created")
    return found


def revoke_token(user: User, digest: str, *, now: datetime) -> None:
    """Let a token open nothing any more.

    Raises:
        NotFound: this person has no such token.
    """
    with transaction.atomic():
        token = tokens_of(user).filter(digest=digest).first()
        if token is None:
            raise NotFound("You have no such token.")
        named = TokenName.objects.filter(token=token).first()
        name = f" “{named.name}”" if named else ""
        token.delete()
        record(now=now, actor=user, kind="token", object_id=user.pk, sentence=f"Revoked the token{name}")
