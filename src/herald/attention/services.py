"""Opening, changing and closing attention items."""

from datetime import datetime

from django.db import transaction

from herald.attention.models import Item, ItemKind
from herald.live.notify import notify

#: one that is put off comes back when it counts so many times as many devices as it did then
WAKES = 1.5


def open_item(
    kind: ItemKind,
    *,
    cause: str,
    now: datetime,
    object_kind: str = "",
    object_id: int = 0,
    count: int | None = None,
    rule: str = "",
) -> None:
    """Open an item, or bring the open one up to date."""
    cause = cause[:300]
    with transaction.atomic():
        item, new = Item.objects.get_or_create(
            kind=kind,
            object_kind=object_kind,
            object_id=object_id,
            closed_at=None,
            defaults={"cause": cause, "count": count, "rule": rule, "opened_at": now, "changed_at": now},
        )
        if not new and (item.cause, item.count, item.rule) != (cause, count, rule):
            item.cause, item.count, item.rule, item.changed_at = cause, count, rule, now
            if (count or 0) > WAKES * max(1, item.snoozed_count or 0):
                item.snoozed_until, item.snoozed_count = None, None
            item.save(update_fields=["cause", "count", "rule", "changed_at", "snoozed_until", "snoozed_count"])
        if new or item.changed_at == now:
            notify("attention")


def close_item(kind: ItemKind, *, now: datetime, object_kind: str = "", object_id: int = 0) -> None:
    """Close the open item of this kind about this object, if there is one."""
    if Item.objects.about(kind, object_kind, object_id).open().update(closed_at=now):
        notify("attention")
