"""Deleting messages of long ago, and the tries at sending them."""

from datetime import datetime

from django.db import transaction
from django.db.models import QuerySet

from herald.notifications.models import Attempt, Message, SendState
from herald.retention.totals import Save

KEY = "messages"
_COLUMNS = ("id", "item_id", "occasion", "person_id", "channel_id", "text", "made_at", "sent_at", "state")


def oldest_message() -> datetime | None:
    """When the first message was made that is still there."""
    return _told().values_list("made_at", flat=True).first()


def count_messages(before: datetime) -> int:
    """How many that wait no more are older."""
    return _told().filter(made_at__lt=before).count()


def delete_messages(before: datetime, most: int, save: Save) -> int:
    """Delete at most so many messages that were made before a moment; how many were."""
    with transaction.atomic():
        rows = list(_told().filter(made_at__lt=before).values_list(*_COLUMNS)[:most])
        if not rows:
            return 0
        save(_COLUMNS, rows)
        ids = [row[0] for row in rows]
        Attempt.objects.filter(message__in=ids).delete()
        Message.objects.filter(pk__in=ids).delete()
    return len(rows)


def _told() -> "QuerySet[Message]":
    # a message about an item that is open keeps its person from being told of it twice
    about_open = Message.objects.filter(item__isnull=False, item__closed_at=None)
    over = Message.objects.exclude(state=SendState.WAITING).exclude(pk__in=about_open.values("pk"))
    return over.order_by("id")
