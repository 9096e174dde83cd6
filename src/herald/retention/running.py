"""Deleting what is kept no longer: a little at a time, so that nobody who writes meanwhile waits."""

from collections.abc import Iterator
from datetime import datetime
from time import monotonic, sleep

import structlog
from django.db import transaction
from django.db.models import F

from herald.attention.quarantine import first_line
from herald.db.locks import RETENTION, held_by_me
from herald.record.models import Kind as Subject
from herald.record.services import record
from herald.retention.archive import saving_nowhere, saving_to_file
from herald.retention.kinds import KINDS, Kind, limit_of
from herald.retention.models import KeptKind

#: rows that one transaction deletes, and for how long the database then has peace
BATCH, PAUSE_SECONDS = 2000, 0.05
log = structlog.get_logger()


def delete_old(*, now: datetime, seconds: float) -> int:
    """Delete for at most so many seconds, of real time, what is kept no longer; how many rows. One process does it at a
    time. A kind that fails says so, and the others go on."""
    ends = monotonic() + seconds
    deleted = 0
    with held_by_me(RETENTION, 0) as mine:
        if not mine:
            return 0
        rows = KeptKind.objects.in_bulk()
        for kind in KINDS.values():
            kept = rows.get(kind.key)
            if kept is None or kept.days is None:
                continue
            try:
                for count in _batches(kind, kept, limit_of(kept.days, now), now=now, ends=ends):
                    deleted += count
            except Exception as error:
                log.exception("retention_failed", kind=kind.key)
                KeptKind.objects.filter(key=kind.key).update(problem=first_line(error)[:300])
    return deleted


def _batches(kind: Kind, kept: KeptKind, before: datetime, *, now: datetime, ends: float) -> Iterator[int]:
    """Deletes batch by batch, and says of each how many rows it had."""
    save = saving_to_file(kind.key, now.date()) if kept.archives else saving_nowhere
    while monotonic() < ends:
        with transaction.atomic():
            count = kind.delete(before, BATCH, save)
            if count:
                KeptKind.objects.filter(key=kind.key).update(
                    deleted_before=before, deleted_rows=F("deleted_rows") + count, deleted_at=now, problem=""
                )
        if not count:
            _tell(kind, before, now)
            return
        yield count
        sleep(PAUSE_SECONDS)


def _tell(kind: Kind, before: datetime, now: datetime) -> None:
    """Put on record what a kind that is through has lost since the record last told of it."""
    with transaction.atomic():
        kept = KeptKind.objects.select_for_update().get(key=kind.key)
        count = kept.deleted_rows - kept.recorded_rows
        if kept.problem:
            kept.problem = ""
            kept.save(update_fields=["problem"])
        if not count:
            return
        kept.recorded_rows = kept.deleted_rows
        kept.save(update_fields=["recorded_rows"])
        sentence = f"{kind.name}: deleted {kind.counted(count)} of before {before:%-d %B %Y}, as set"
        record(now=now, actor=None, kind=Subject.RETENTION, object_id=0, sentence=sentence)
