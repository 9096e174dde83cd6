"""Deleting old events of joining and leaving; how many of each there were a day stays."""

from collections import Counter
from datetime import UTC, datetime

from django.db import transaction

from herald.groups.models import MembershipEvent
from herald.retention.totals import Save, add_totals

KEY = "membership-events"
_COLUMNS = ("id", "group", "device", "at", "joined", "cause")


def oldest_event() -> datetime | None:
    """When the first event was that is still there."""
    return MembershipEvent.objects.order_by("id").values_list("at", flat=True).first()


def count_events(before: datetime) -> int:
    """How many events are older."""
    return MembershipEvent.objects.filter(at__lt=before).count()


def delete_events(before: datetime, most: int, save: Save) -> int:
    """Delete at most so many of the oldest events, those before a moment; how many were, 0 at the end."""
    with transaction.atomic():
        oldest = MembershipEvent.objects.order_by("id")[:most].values_list(
            "id", "group_id", "device_id", "at", "joined", "cause"
        )
        rows = [row for row in oldest if row[3] < before]
        if not rows:
            return 0
        save(_COLUMNS, rows)
        days = Counter((at.astimezone(UTC).date(), group, _word(joined)) for _, group, _, at, joined, _ in rows)
        add_totals(KEY, days)
        MembershipEvent.objects.filter(pk__in=[row[0] for row in rows]).delete()
    return len(rows)


def _word(joined: bool) -> str:
    return "joined" if joined else "left"
