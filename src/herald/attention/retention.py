"""Deleting items that were closed long ago, with the messages about them; how many of each kind there were a day
stays."""

from collections import Counter
from datetime import UTC, datetime

from django.db import transaction
from django.db.models import QuerySet

from herald.attention.models import Item
from herald.retention.totals import Save, add_totals

KEY = "attention-items"
_COLUMNS = ("id", "kind", "object_kind", "object_id", "cause", "count", "opened_at", "closed_at")


def oldest_item() -> datetime | None:
    """When the first item was closed that is still there."""
    return _closed().values_list("closed_at", flat=True).first()


def count_items(before: datetime) -> int:
    """How many were closed before."""
    return _closed().filter(closed_at__lt=before).count()


def delete_items(before: datetime, most: int, save: Save) -> int:
    """Delete at most so many items that were closed before a moment; how many were."""
    with transaction.atomic():
        rows = list(_closed().filter(closed_at__lt=before).values_list(*_COLUMNS)[:most])
        if not rows:
            return 0
        save(_COLUMNS, rows)
        add_totals(KEY, Counter((row[7].astimezone(UTC).date(), 0, row[1]) for row in rows))
        Item.objects.filter(pk__in=[row[0] for row in rows]).delete()
    return len(rows)


def _closed() -> "QuerySet[Item]":
    return Item.objects.filter(closed_at__isnull=False).order_by("closed_at", "id")
