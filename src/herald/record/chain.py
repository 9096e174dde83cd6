"""The chain over the record: a hash for each entry and all before it, so that a changed, removed, inserted or reordered
entry shows.

Writers know nothing of it. One background step links entries after they were committed, in the order in which it finds
them; an entry of a longer transaction is linked later, whatever its id. Each link's hash is SHA-256 over the hash
before it and the entry in canonical JSON (sorted keys, no spaces, UTF-8). Whoever can write to the database can compute
a whole new chain: that shows against a hash that left the house, which is why the newest goes out each day.
"""

import hashlib
import json
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import structlog
from django.conf import settings
from django.db import transaction
from django.db.models import Exists, Max, OuterRef

from herald.db.locks import CHAIN, take_lock
from herald.http.mail import MailError, deliver
from herald.record.models import ChainLink, ChainStart, ChainWitness, RecordEntry

#: the hash before the first link
BEGINNING = "0" * 64
#: entries linked in one transaction
BATCH = 2000
#: most steps look only at so many of the latest ids; those of longer transactions are found by a full look
WINDOW = 5000
#: an entry that says it is so much older than the links before it was slipped in
TOLERANCE = timedelta(hours=1)
WITNESSED_EVERY = timedelta(days=1)
log = structlog.get_logger()


@dataclass(frozen=True)
class Fault:
    """Something about the record that is not as it was written; `position` counts links, from 1."""

    position: int
    entry: int
    words: str


@dataclass(frozen=True)
class Head:
    """The newest link."""

    position: int
    hash: str


def link_new(*, now: datetime, everything: bool = False) -> int:
    """Link up to a batch of entries that have no link, among the latest or among all; how many."""
    with transaction.atomic():
        take_lock(CHAIN)  # two that link at once would give two entries one position
        linked = ChainLink.objects.filter(entry_id=OuterRef("pk"))
        last = head()
        newest = ChainLink.objects.aggregate(newest=Max("entry_id"))["newest"] or 0
        looked_at = RecordEntry.objects.filter(pk__gt=0 if everything else newest - WINDOW)
        fresh = list(looked_at.filter(~Exists(linked)).order_by("id")[:BATCH])
        links = []
        position, digest = last.position, last.hash
        for entry in fresh:
            position, digest = position + 1, hash_of(digest, entry)
            links.append(ChainLink(position=position, entry_id=entry.pk, hash=digest, linked_at=now))
        ChainLink.objects.bulk_create(links)
    return len(links)


def send_out_head(*, real_now: datetime) -> Head | None:
    """Once a day, let the newest link leave the house: into the log, and by mail where a witness is named. None where
    it is not time, or nothing is new."""
    latest = ChainWitness.objects.order_by("-id").first()
    newest = head()
    if latest is not None and (real_now - latest.at < WITNESSED_EVERY or latest.position == newest.position):
        return None
    ChainWitness.objects.create(at=real_now, position=newest.position, hash=newest.hash)
    log.info("record_head", position=newest.position, hash=newest.hash)
    if settings.RECORD_WITNESS and settings.EMAIL_HOST:
        words = f"The record has {newest.position:,} entries"
        text = (
            f"{words}. Its newest hash:\n\n{newest.hash}\n\nKeep this mail: it shows a record that is rewritten later."
        )
        try:
            deliver(settings.RECORD_WITNESS, words, text, message_id=f"record-{newest.position}")
        except MailError as error:
            log.warning("record_head_not_mailed", why=str(error))
    return newest


def head() -> Head:
    """The newest link; where there is none, where the chain starts."""
    newest = ChainLink.objects.order_by("-position").first()
    return Head(newest.position, newest.hash) if newest else start()


def start() -> Head:
    """The link before the first that is there: the last that was deleted, or position 0 and the beginning's hash."""
    deleted = ChainStart.objects.first()
    return Head(deleted.position, deleted.hash) if deleted else Head(0, BEGINNING)


def hash_of(before: str, entry: RecordEntry) -> str:
    """The hash of an entry that follows one with the hash `before`."""
    text = json.dumps(_as_kept(entry), sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return hashlib.sha256(f"{before}\n{text}".encode()).hexdigest()


def faults(witness: Head | None = None) -> Iterator[Fault]:
    """Everything that is not as it was written, in the order of the chain. A `witness` is a position and hash that left
    the house earlier."""
    begun = start()
    digest, expected, batch_at, earlier = begun.hash, begun.position + 1, None, None
    if witness is not None and witness.position == begun.position and witness.hash != begun.hash:
        yield Fault(begun.position, 0, "the hash is not the one that went out: the chain was rewritten")
    for link, entry in _linked():
        if link.position != expected:
            yield Fault(expected, 0, f"links {expected} to {link.position - 1} are gone")
            expected = link.position
        if entry is None:
            yield Fault(link.position, link.entry_id, "the entry was removed")
        else:
            if hash_of(digest, entry) != link.hash:
                yield Fault(link.position, link.entry_id, "the entry was changed, or another stands in its place")
            if link.linked_at != batch_at:
                batch_at, earlier = link.linked_at, batch_at
            if earlier is not None and entry.at < earlier - TOLERANCE:
                yield Fault(link.position, link.entry_id, "the entry is older than those before it: it was slipped in")
        if witness is not None and link.position == witness.position and link.hash != witness.hash:
            yield Fault(link.position, link.entry_id, "the hash is not the one that went out: the chain was rewritten")
        digest, expected = link.hash, link.position + 1
    if witness is not None and witness.position >= expected:
        yield Fault(expected, 0, f"the chain ends before position {witness.position}, whose hash went out")


def _linked() -> Iterator[tuple[ChainLink, RecordEntry | None]]:
    after = 0
    while links := list(ChainLink.objects.filter(position__gt=after).order_by("position")[:BATCH]):
        entries = RecordEntry.objects.in_bulk([link.entry_id for link in links])
        for link in links:
            yield link, entries.get(link.entry_id)
        after = links[-1].position


def _as_kept(entry: RecordEntry) -> dict[str, Any]:
    # entries that were hashed before there were tokens have none
    by_token = {"token": entry.token_id} if entry.token_id is not None else {}
    return by_token | {
        "id": entry.pk,
        "at": entry.at.astimezone(UTC).isoformat(timespec="microseconds"),
        "actor": entry.actor_id,
        "kind": entry.kind,
        "object": entry.object_id,
        "sentence": entry.sentence,
        "before": entry.before,
        "after": entry.after,
    }
