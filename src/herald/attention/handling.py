"""What people do with an attention item: they know of it, look after it, put it off. Each is on record."""

from collections.abc import Callable, Collection
from datetime import datetime, timedelta
from statistics import median

from django.db import transaction

from herald.attention.models import Item, ItemKind
from herald.http.errors import Conflict, Invalid, NotFound
from herald.live.notify import notify
from herald.people.models import User
from herald.record.models import Kind
from herald.record.services import record

#: an item is put off for so long at most
LONGEST_SNOOZE = timedelta(days=30)
#: how long items of a kind take is told of those that were closed within so many days, the latest so many
TOLD_OF, MOST = timedelta(days=30), 5_000


def acknowledge(item_id: int, *, actor: User | None, now: datetime) -> Item:
    """Say that somebody knows of it. Whoever said so first stays named.

    Raises:
        NotFound, Conflict: there is no such item, or it is closed.
    """

    def know(item: Item) -> str:
        if item.acknowledged_at is not None:
            return ""
        item.acknowledged_at, item.acknowledged_by = now, actor
        return "Acknowledged"

    return _change(item_id, know, actor, now)


def assign(item_id: int, to: User | None, *, actor: User | None, now: datetime) -> Item:
    """Say who looks after it; nobody where `to` is None. Whoever looks after it knows of it.

    Raises:
        NotFound, Conflict: as above. Invalid: that person’s account is disabled.
    """
    if to is not None and not to.is_active:
        raise Invalid("/to", f"{to}’s account is disabled, so they cannot look after it.")

    def give(item: Item) -> str:
        if item.assigned_to_id == (to and to.pk):
            return ""
        item.assigned_to = to
        if to is not None and item.acknowledged_at is None:
            item.acknowledged_at, item.acknowledged_by = now, actor
        return f"Gave to {to}" if to else "Gave to nobody"

    return _change(item_id, give, actor, now)


def snooze(item_id: int, until: datetime | None, *, actor: User | None, now: datetime) -> Item:
    """Put it off until a moment; None shows it again. One that counts half as many devices again comes back sooner.

    Raises:
        NotFound, Conflict: as above. Invalid: the moment is past, or too far ahead.
    """
    if until is not None and until <= now:
        raise Invalid("/until", "Choose a moment that is still to come.")
    if until is not None and until > now + LONGEST_SNOOZE:
        raise Invalid("/until", f"It can be put off for {LONGEST_SNOOZE.days} days at most.")

    def put_off(item: Item) -> str:
        if until is None and item.snoozed_until is None:
            return ""
        item.snoozed_until, item.snoozed_count = until, item.count if until else None
        return f"Put off until {until:%-d %b %Y, %H:%M} UTC" if until else "Showed again"

    return _change(item_id, put_off, actor, now)


def take_from(user_ids: Collection[int], now: datetime) -> None:
    """What these people looked after is looked after by nobody: they have no account any more."""
    items = Item.objects.open().filter(assigned_to__in=user_ids).select_related("assigned_to")
    for item in items.select_for_update(of=("self",)):
        sentence = f"Gave to nobody, as the account of {item.assigned_to} has ended: {item.cause}"[:300]
        record(now=now, actor=None, kind=Kind.ATTENTION, object_id=item.pk, sentence=sentence)
    if items.update(assigned_to=None):
        notify("attention")


def _change(item_id: int, act: Callable[[Item], str], actor: User | None, now: datetime) -> Item:
    """Change an open item; `act` says what it did, and nothing where all was so already."""
    with transaction.atomic():
        item: Item | None = Item.objects.select_for_update().filter(pk=item_id).first()
        if item is None:
            raise NotFound(f"There is no attention item {item_id}.")
        if item.closed_at is not None:
            raise Conflict("It is over and closed; there is nothing left to look after.")
        if said := act(item):
            item.save()
            record(now=now, actor=actor, kind=Kind.ATTENTION, object_id=item.pk, sentence=f"{said}: {item.cause}"[:300])
            notify("attention")
    return item


def times_to_close(*, now: datetime) -> list[tuple[str, int, float]]:
    """Of each kind of which items were closed lately, how many, and how long they were open, by the median in
    seconds; the commonest first."""
    lasted: dict[str, list[float]] = {}
    for kind, opened, closed in Item.objects.closed_since(now - TOLD_OF, MOST):
        lasted.setdefault(kind, []).append((closed - opened).total_seconds())
    found = [(ItemKind(kind).value, len(times), median(times)) for kind, times in lasted.items()]
    return sorted(found, key=lambda f: (-f[1], f[0]))
