"""Comments on rollouts and schedules: each is an entry in the record, too, so that it is found there."""

from datetime import datetime

from django.db import transaction

from herald.http.errors import Invalid
from herald.live.notify import notify
from herald.people.models import User
from herald.record.models import Comment, Kind
from herald.record.services import record

LONGEST = 2_000
#: of a comment, so much is in the sentence of the record
_QUOTED = 200
#: of one thing, so many are shown, the latest
MOST_SHOWN = 200


def comments_on(kind: Kind, object_id: int) -> list[Comment]:
    """The comments on one thing, the latest first."""
    about = Comment.objects.filter(kind=kind.value, object_id=object_id).select_related("author")
    return list(about.order_by("-id")[:MOST_SHOWN])


def comment(kind: Kind, object_id: int, text: str, *, actor: User, now: datetime) -> Comment:
    """Say something about one thing.

    Raises:
        Invalid: it says nothing, or too much.
    """
    said = text.strip()
    if not said or len(said) > LONGEST:
        raise Invalid("/text", f"A comment has 1 to {LONGEST} characters.")
    with transaction.atomic():
        made = Comment.objects.create(kind=kind.value, object_id=object_id, text=said, at=now, author=actor)
        quoted = said if len(said) <= _QUOTED else f"{said[: _QUOTED - 1]}…"
        record(now=now, actor=actor, kind=kind.value, object_id=object_id, sentence=f"Commented: {quoted}")
        notify("comments", object_id)
    return made
