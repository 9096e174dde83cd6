"""Deleting the oldest entries of the record, which is then chained from the last one that was deleted."""

from datetime import datetime

from django.db import transaction

from herald.db.locks import CHAIN, take_lock
from herald.record.chain import hash_of, start
from herald.record.models import ChainLink, ChainStart, RecordEntry
from herald.retention.totals import Save

KEY = "record"
_COLUMNS = (
    "position", "hash", "id", "at", "actor", "token", "kind", "object", "sentence", "before", "after",
)  # fmt: skip


class RecordAtFault(Exception):
    """The next entry is not as it was written. It is evidence, and stays."""


def oldest_entry() -> datetime | None:
    """When the first act was that is still there."""
    return RecordEntry.objects.order_by("id").values_list("at", flat=True).first()


def count_entries(before: datetime) -> int:
    """How many are older."""
    return RecordEntry.objects.filter(at__lt=before).count()


def delete_entries(before: datetime, most: int, save: Save) -> int:
    """Delete at most so many of the oldest entries that were made before a moment, in the order of the chain; how many
    were, 0 at the end.

    Raises:
        RecordAtFault: the next one was changed or removed by another hand; `verify_record` says more.
    """
    with transaction.atomic():
        take_lock(CHAIN)
        begun = start()
        links = list(ChainLink.objects.order_by("position")[:most])
        entries = RecordEntry.objects.in_bulk([link.entry_id for link in links])
        digest, position = begun.hash, begun.position
        gone: list[tuple[ChainLink, RecordEntry]] = []
        for link in links:
            entry = entries.get(link.entry_id)
            is_whole = entry is not None and link.position == position + 1 and hash_of(digest, entry) == link.hash
            if entry is None or not is_whole:
                if gone:
                    break  # those before it are well
                raise RecordAtFault(f"entry {link.entry_id} is not as it was written: see verify_record")
            if entry.at >= before:
                break
            gone.append((link, entry))
            digest, position = link.hash, link.position
        if not gone:
            return 0
        save(_COLUMNS, [_row(link, entry) for link, entry in gone])
        ChainStart.objects.update_or_create(pk=ChainStart.ONLY, defaults={"position": position, "hash": digest})
        ChainLink.objects.filter(pk__in=[link.pk for link, _ in gone]).delete()
        RecordEntry.objects.filter(pk__in=[entry.pk for _, entry in gone]).delete()
    return len(gone)


def _row(link: ChainLink, entry: RecordEntry) -> tuple[object, ...]:
    act = (entry.kind, entry.object_id, entry.sentence, entry.before, entry.after)
    return (link.position, link.hash, entry.pk, entry.at, entry.actor_id, entry.token_id, *act)
