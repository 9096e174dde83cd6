"""Attention for schedules that devices miss again and again."""

from datetime import datetime
from typing import Any

from herald.attention.models import Item, ItemKind
from herald.attention.services import close_item, open_item
from herald.commands.models import Occurrence, Schedule, When
from herald.commands.watch import IN_A_ROW
from herald.deliveries.models import Delivery


def note_misses(*, now: datetime) -> None:
    """Open an item for each schedule of which devices missed the last two firings that are over; close those of which
    none did, or that fire no more."""
    firing = list(Schedule.objects.active().filter(when=When.REPEAT))
    for schedule in firing:
        times = Occurrence.objects.latest_times(schedule.pk, IN_A_ROW, over_by=now)
        missed = Delivery.objects.missed_in_all(schedule.pk, times) if len(times) == IN_A_ROW else 0
        about: dict[str, Any] = {"object_kind": "schedule", "object_id": schedule.pk, "now": now}
        if missed:
            open_item(ItemKind.MISSED, cause=f"Missed “{schedule.title}” twice in a row", count=missed, **about)
        else:
            close_item(ItemKind.MISSED, **about)
    over = Item.objects.open().of_kinds([ItemKind.MISSED]).exclude(object_id__in=[s.pk for s in firing])
    for item in over:
        close_item(ItemKind.MISSED, object_kind="schedule", object_id=item.object_id, now=now)
