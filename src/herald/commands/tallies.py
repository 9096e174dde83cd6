"""How firings went, kept once they are over: a calendar that counted all their deliveries anew would take seconds."""

from collections import Counter, defaultdict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
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
        counted = count_firings([o.pk for o in over], kind)
        for occurrence in over:
            setattr(occurrence, kind, counted.get(occurrence.pk, []))
    for occurrence in over:
        occurrence.tallied_at = now
    Occurrence.objects.bulk_update(over, [*TallyKind, "tallied_at"])
    return len(over)


def tally_again(occurrence: Occurrence) -> None:
    """Count a firing anew that a device of it did after all, before its answers are deleted."""
    if not Delivery.objects.late_since_tally(Occurrence.objects.filter(pk=occurrence.pk)):
        return
    for kind in TallyKind:
        setattr(occurrence, kind, count_firings([occurrence.pk], kind).get(occurrence.pk, []))
    occurrence.save(update_fields=[*TallyKind])


def phases_kept(occurrence: Occurrence) -> Counter[str]:
    """How many devices of a firing ended in each phase, from what was kept as it was over."""
    rows: Sequence[TallyRow] = occurrence.tally or ()
    phases: Counter[str] = Counter()
    for _, _, phase, count in rows:
        phases[phase] += count
    return phases


@dataclass(frozen=True, kw_only=True)
class Firing:
    """A firing that was, with how it went."""

    schedule: int
    at: datetime
    went: Sequence[TallyRow]


def firings_between(
    start: datetime, end: datetime, kind: TallyKind, known: Mapping[int, Sequence[TallyRow]]
) -> dict[int, Firing]:
    """The firings in [start, end) by their ids, the first first. How one went is counted anew where it is not over, so
    that nothing was kept, unless it is `known`; and where a device of it proved well after all. By groups it is kept of
    the groups that the devices were in when the firing was over."""
    read = Occurrence.objects.told_within(start, end, kind)
    late = Delivery.objects.late_since_tally(Occurrence.objects.within(start, end))
    went: dict[int, Sequence[TallyRow]] = {}
    for pk, _, _, tally in read:
        rows = known.get(pk) if tally is None else tally
        if rows is not None and pk not in late:
            went[pk] = rows
    went |= count_firings([pk for pk, *_ in read if pk not in went], kind)
    return {
        pk: Firing(schedule=schedule, at=datetime.fromtimestamp(at, UTC), went=went.get(pk, ()))
        for pk, schedule, at, _ in read
    }


def count_firings(occurrence_ids: Collection[int], kind: TallyKind) -> dict[int, list[TallyRow]]:
    """How firings go, counted now, by their ids; those without a device are left out."""
    if not occurrence_ids:
        return {}
    found: dict[int, list[TallyRow]] = defaultdict(list)
    fields = (_FIELDS[kind], "device__time_zone")
    for pk, phase, where, zone, n in Delivery.objects.occurrence_cells(occurrence_ids, fields):
        found[pk].append((where, zone, phase, n))
    return found
