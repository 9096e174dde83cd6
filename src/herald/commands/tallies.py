"""How firings went, kept once they are over: a calendar that counted all their deliveries anew would take seconds."""

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime
from enum import StrEnum

from herald.commands.models import Occurrence
from herald.deliveries.models import Delivery

#: so many are tallied in one pass
MOST = 300
#: a site, or a group, a time zone, a phase, and how many devices
TallyRow = tuple[int | None, str, str, int]


class TallyKind(StrEnum):
    """By what devices are counted besides their time zones; the value is the field that keeps it."""

    SITE = "tally"
    GROUP = "group_tally"


_FIELDS = {TallyKind.SITE: "device__site_id", TallyKind.GROUP: "device__memberships__group_id"}


def tally_ended(*, now: datetime) -> int:
    """Keep how firings went that are over; how many were. One of which a device may still come back is not over."""
    over = list(Occurrence.objects.untallied(now, MOST))
    for kind in TallyKind:
        counted = _counted([o.pk for o in over], kind)
        for occurrence in over:
            setattr(occurrence, kind, counted.get(occurrence.pk, []))
    for occurrence in over:
        occurrence.tallied_at = now
    Occurrence.objects.bulk_update(over, [*TallyKind, "tallied_at"])
    return len(over)


def tally_again(occurrence: Occurrence) -> None:
    """Count a firing anew that a device of it did after all, before its answers are deleted."""
    if not Delivery.objects.late_since_tally([occurrence.pk]):
        return
    for kind in TallyKind:
        setattr(occurrence, kind, _counted([occurrence.pk], kind).get(occurrence.pk, []))
    occurrence.save(update_fields=[*TallyKind])


def phases_kept(occurrence: Occurrence) -> Counter[str]:
    """How many devices of a firing ended in each phase, from what was kept as it was over."""
    rows: Sequence[TallyRow] = occurrence.tally or ()
    phases: Counter[str] = Counter()
    for _, _, phase, count in rows:
        phases[phase] += count
    return phases


def tallies_of(known: Mapping[int, Sequence[TallyRow] | None], kind: TallyKind) -> dict[int, Sequence[TallyRow]]:
    """How firings went, by their ids, with what was kept of each: counted anew where they are not over, so that nothing
    was kept, or a device of theirs proved well after all. By groups it is kept of the groups that the devices were in
    when the firing was over."""
    late = Delivery.objects.late_since_tally([pk for pk, rows in known.items() if rows is not None])
    kept = {pk: rows for pk, rows in known.items() if rows is not None and pk not in late}
    return {**_counted([pk for pk in known if pk not in kept], kind), **kept}


def _counted(occurrence_ids: Sequence[int], kind: TallyKind) -> dict[int, list[TallyRow]]:
    found: dict[int, list[TallyRow]] = defaultdict(list)
    fields = (_FIELDS[kind], "device__time_zone")
    for pk, phase, where, zone, n in Delivery.objects.occurrence_cells(occurrence_ids, fields):
        found[pk].append((where, zone, phase, n))
    return found
