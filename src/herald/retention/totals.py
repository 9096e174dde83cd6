"""What rooms need to delete their old rows, and to say later what is gone."""

from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime
from typing import Any

from django.db import connection

from herald.retention.models import DeletedTotal, KeptKind

#: takes the names of columns and rows, before these are deleted
Save = Callable[[Sequence[str], Sequence[Sequence[Any]]], None]

_ADD = """
INSERT INTO retention_deletedtotal (key, day, object_id, what, count) VALUES (%s, %s, %s, %s, %s)
ON CONFLICT (key, object_id, day, what) DO UPDATE SET count = retention_deletedtotal.count + excluded.count
"""


def deleted_before(key: str) -> datetime | None:
    """Before which moment rows of a kind are gone; None while all are there."""
    return KeptKind.objects.filter(key=key).values_list("deleted_before", flat=True).first()


def add_totals(key: str, counts: Mapping[tuple[date, int, str], int]) -> None:
    """Count rows that are deleted in the same transaction: by day, object and what they said."""
    with connection.cursor() as cursor:
        cursor.executemany(_ADD, [(key, day, about, what, n) for (day, about, what), n in sorted(counts.items())])


def totals_of(key: str, object_id: int) -> list[DeletedTotal]:
    """What stays of deleted rows about one object, the oldest day first."""
    return list(DeletedTotal.objects.filter(key=key, object_id=object_id).order_by("day", "what"))
