"""How firings went, kept once they are over: a calendar that counted all their deliveries anew would take seconds."""

from collections import Counter, defaultdict
from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

from herald.commands.models import Occurrence
from herald.deliveries.models import Delivery

#: so many are tallied in one pass
MOST = 300
#: a site, a time zone, a phase, and how many devices
TallyRow = tuple[int | None, str, str, int]
_FIELDS = ("device__site_id", "device__time_zone")


def tally_ended(*, now: datetime) -> int:
    """Keep how firings went that are over; how many were. One of which a device may still come back is not over."""
    over = list(Occurrence.objects.untallied(now, MOST))
    counted = _counted([o.pk for o in over])
    for occurrence in over:
        occurrence.tally, occurrence.tallied_at = counted.get(occurrence.pk, []), now
    Occurrence.objects.bulk_update(over, ["tally", "tallied_at"])
    return len(over)


def tallies_of(occurrences: Collection[Occurrence]) -> dict[int, Sequence[TallyRow]]:
    """How firings went, by their ids: as it was kept, and counted anew where they are not over or a device of theirs
    proved well after all."""
    late = Delivery.objects.late_since_tally([o.pk for o in occurrences if o.tally is not None])
    kept = {o.pk: [tuple(row) for row in o.tally] for o in occurrences if o.tally is not None and o.pk not in late}
    return {**_counted([o.pk for o in occurrences if o.pk not in kept]), **kept}


def _counted(occurrence_ids: Sequence[int]) -> dict[int, list[TallyRow]]:
    found: dict[int, Counter[tuple[Any, ...]]] = defaultdict(Counter)
    for pk, phase, site, zone, n in Delivery.objects.occurrence_cells(occurrence_ids, _FIELDS):
        found[pk][site, zone, phase] += n
    return {pk: [(*key, n) for key, n in rows.items()] for pk, rows in found.items()}
