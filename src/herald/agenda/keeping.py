"""The counts of the calendar, made over the whole fleet again and again: to count 100,000 devices at each look would
take a second of it."""

import time
from datetime import UTC, datetime, timedelta

import msgspec

from herald.agenda.counts import NONE, Counts, audience_counts, audiences_of, ring_counts
from herald.agenda.models import KeptCounts
from herald.agenda.rollouts import MOST_ENDED
from herald.agenda.rows import RowKind, Rows
from herald.commands.models import Occurrence, Schedule
from herald.commands.tallies import count_firings
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.fleet.presence import HEARD_WITHIN
from herald.rollouts.models import Rollout

#: counts that are older (of real time) are not told: the clock that keeps them stands still
USABLE = timedelta(minutes=5)
#: counting rests for so many times as long as it takes, and at least for so long, in real time
REST, REST_SECONDS = 30, 5.0


def keep_counts(*, now: datetime, real_now: datetime | None = None) -> float:
    """Count for each kind of rows, and keep it. How many seconds to rest, so that counting takes a thirtieth of a
    processor, and no count grows too old to be told."""
    began, real = time.monotonic(), real_now or datetime.now(UTC)
    sites = _count(RowKind.SITE, now)
    for kind, counts in (
        (RowKind.SITE, sites),
        (RowKind.ZONE, sites.by_zone()),
        (RowKind.GROUP, _count(RowKind.GROUP, now)),
    ):
        kept = KeptCounts(rows=kind, counted_at=now, kept_at=real, counts=counts.written())
        KeptCounts.objects.bulk_create(
            [kept], update_conflicts=True, unique_fields=["rows"], update_fields=["counted_at", "kept_at", "counts"]
        )
    return min(max(REST_SECONDS, REST * (time.monotonic() - began)), USABLE.total_seconds() / 2)


def kept_rows(kind: RowKind, *, real_now: datetime | None = None) -> Rows:
    """Rows with what was counted of them a little while ago; nothing of it where that is too old, or was counted for
    other groups. The counts are of the whole fleet: somebody limited finds none, by the tables' policies."""
    fresh = KeptCounts.objects.filter(rows=kind, kept_at__gte=(real_now or datetime.now(UTC)) - USABLE)
    counts, counted_at = _read(fresh.first())
    return Rows(kind, counts, counted_at)


def _read(kept: KeptCounts | None) -> tuple[Counts | None, datetime | None]:
    """What was kept, and of when it is; nothing where another release of the program wrote it otherwise."""
    if kept is None:
        return None, None
    try:
        return Counts.read(bytes(kept.counts)), kept.counted_at
    except msgspec.DecodeError:
        return None, None


def _count(kind: RowKind, now: datetime) -> Counts:
    before, rows = _read(KeptCounts.objects.filter(rows=kind).first())[0] or NONE, Rows(kind)
    launched = Rollout.objects.filter(launched_at__isnull=False).prefetch_related("rings").order_by("-id")
    ended = list(launched.exclude(ended_at=None)[:MOST_ENDED])
    over = set(before.over) if before.groups == rows.groups else set()
    # what is over is counted once: its devices are not in motion any more
    rings_over = [r.pk for e in ended if e.pk in over for r in e.rings.all()]
    settled = Counts(rings={ring: before.rings[ring] for ring in rings_over if ring in before.rings})
    schedules = list(Schedule.objects.planned())
    not_over = Occurrence.objects.not_over()
    firings = count_firings(not_over, rows.tally_kind)
    return Counts(
        groups=rows.groups,
        heard=Device.objects.heard_since(now - HEARD_WITHIN).count() if kind is RowKind.SITE else None,
        files=list(Delivery.objects.files_to_come_by_site()) if rows.overlap else None,
        devices=[list(counted) for counted in rows.devices],
        rings={
            ring: [list(c) for c in counts]
            for ring, counts in ring_counts([*launched.filter(ended_at=None), *ended], rows, settled).items()
        },
        over=[e.pk for e in ended],
        audiences=audiences_of(audience_counts(schedules, rows), schedules),
        firings={pk: firings.get(pk, []) for pk in not_over},
    )
