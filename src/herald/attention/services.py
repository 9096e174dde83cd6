"""Opening, changing and closing attention items."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Protocol

from django.db import transaction

from herald.attention.models import Item, ItemKind
from herald.live.notify import notify
from herald.people.models import StandIn

#: told of each item that opens or is over, within the transaction in which it does; by rooms above this one
on_change: list["Tell"] = []
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
            if item.snoozed_count is not None and (count or 0) > WAKES * max(1, item.snoozed_count):
                item.snoozed_until, item.snoozed_count = None, None
            item.save(update_fields=["cause", "count", "rule", "changed_at", "snoozed_until", "snoozed_count"])
        if new:
            _tell(item, over=False, now=now)
        if new or item.changed_at == now:
            notify("attention")


def close_item(kind: ItemKind, *, now: datetime, object_kind: str = "", object_id: int = 0) -> None:
    """Close the open item of this kind about this object, if there is one."""
    about = Item.objects.about(kind, object_kind, object_id).open()
    if not about.exists():
        return  # as most times
    with transaction.atomic():
        for item in about.select_for_update():
            item.closed_at = now
            item.save(update_fields=["closed_at"])
            _tell(item, over=True, now=now)
            notify("attention")


def begin_look(item: Item, *, now: datetime) -> None:
    """Keep when a look at what the devices of an item share began; before the look, so that one that cannot be looked
    at is not tried again and again before all others."""
    Item.objects.filter(pk=item.pk).update(shared_at=now, shared_count=item.count)


def keep_shared(item: Item, shared: Sequence[Mapping[str, str]], *, count: int | None) -> None:
    """Keep what the devices of an item share: conditions, each as a `rule`, and in `words` how many of `count` devices
    and of the others hold it. Nothing happens where the item is over by now."""
    if Item.objects.open().filter(pk=item.pk).update(shared=list(shared), shared_count=count):
        notify("attention")


def put_off(kind: ItemKind, *, object_kind: str, object_id: int, until: datetime) -> None:
    """Put the open item of this kind about this object off until a moment, however it grows."""
    about = Item.objects.about(kind, object_kind, object_id).open().exclude(snoozed_until=until)
    if about.update(snoozed_until=until, snoozed_count=None):
        notify("attention")


def bring_back(kind: ItemKind, *, put_off_until: datetime) -> None:
    """Bring back the open items of this kind that were put off until just that moment."""
    if Item.objects.of_kinds([kind]).open().filter(snoozed_until=put_off_until).update(snoozed_until=None):
        notify("attention")


def tell_of_stand_in(one: StandIn, is_over: bool, now: datetime) -> None:
    """Open the item of an administrator who stands in for an approver, or close it."""
    if is_over:
        close_item(ItemKind.STANDING_IN, object_id=one.person_id, now=now)
    else:
        cause = f"{one.person} stands in for an approver until {one.ends_at:%H:%M} UTC: {one.reason}"
        open_item(ItemKind.STANDING_IN, cause=cause, object_id=one.person_id, now=now)


class Tell(Protocol):
    """What a room above is told with."""

    def __call__(self, item: Item, *, over: bool, now: datetime) -> None: ...


def _tell(item: Item, *, over: bool, now: datetime) -> None:
    for tell in on_change:
        tell(item, over=over, now=now)
