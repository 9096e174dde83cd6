"""Firings in the calendar: those that were, with how they went, and those that are planned."""

from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import msgspec

from herald.agenda.counts import audience_counts
from herald.agenda.rows import Cells, RowKind, Rows
from herald.commands.firing import firings_in
from herald.commands.models import Schedule
from herald.commands.tallies import Firing as WasFired
from herald.commands.tallies import firings_between
from herald_core.timing.firings import Firing

#: of what fires more often than so in one row, only how often and from when to when is said
MOST_MARKS = 60


class Mark(msgspec.Struct, frozen=True, kw_only=True):
    """One firing in one row. `phases` are of one that was; empty for one that is planned. There are thousands, which
    are made and written by the library in a tenth of the time."""

    at: datetime
    ends_at: datetime
    devices: int
    occurrence: int | None = None
    phases: dict[str, int] = {}


class RowFirings(msgspec.Struct, frozen=True, kw_only=True):
    """The firings of a schedule in one row. Where they are more than a picture holds, `marks` is empty and `times`
    says how many there are from `first` to `last`."""

    row: str
    times: int
    first: datetime
    last: datetime
    devices: int
    marks: list[Mark]


@dataclass(frozen=True, kw_only=True)
class Planned:
    """A schedule that fires: for whom, and when in each clock, in the time that is asked about."""

    schedule: Schedule
    cells: Cells
    firings: dict[str, list[Firing]]

    def by_zone(self) -> Iterator[tuple[Firing, int]]:
        """Each firing of each clock, and for how many devices it is."""
        zones: Counter[str] = Counter()
        for (_, zone), n in self.cells.items():
            zones[zone] += n
        for zone, n in zones.items():
            for firing in self.firings.get(zone, ()):
                yield firing, n


def planned(schedules: Sequence[Schedule], rows: Rows, *, start: datetime, end: datetime) -> list[Planned]:
    """What fires in [start, end), of schedules that fire at times."""
    with_times = [s for s in schedules if s.recurrence is not None]
    counted = audience_counts(with_times, rows, rows.known)
    found = []
    known: dict[Any, dict[str, list[Firing]]] = {}  # many commands fire by the same rule, in the same zones
    for schedule in with_times:
        cells = rows.cells((*where, n) for where, n in counted[schedule.pk].items())
        if cells:
            zones = frozenset(zone for _, zone in cells)
            rule = (schedule.recurrence, schedule.clock, zones)
            if rule not in known:
                known[rule] = firings_in(schedule, zones, start=start, end=end)
            found.append(Planned(schedule=schedule, cells=cells, firings=known[rule]))
    return found


def rows_of_planned(plan: Planned, rows: Rows) -> list[RowFirings]:
    """The planned firings of a schedule, row by row."""
    spread = timedelta(minutes=plan.schedule.spread_minutes)
    marks: dict[str, list[Mark]] = defaultdict(list)
    for (row, zone), n in rows.shown(plan.cells).items():
        of_row = marks[row]
        for firing in plan.firings.get(zone, ()):
            of_row.append(Mark(at=firing.at, ends_at=firing.at + spread, devices=n))
    return [_row(key, of) for key, of in marks.items() if of]


def past(
    rows: Rows, known: Mapping[int, Schedule], *, start: datetime, end: datetime
) -> list[tuple[Schedule, list[RowFirings]]]:
    """The firings that were in [start, end), by schedule, with how they went. `known` are schedules that were read
    already, by their ids."""
    fired = firings_between(start, end, rows.tally_kind, rows.known.firings)
    phases: dict[tuple[int, str], dict[str, int]] = defaultdict(dict)
    for pk, phase, row, n in _how_they_went(fired, rows):
        if row in rows.keys and n:
            counts = phases[pk, row]
            counts[phase] = counts.get(phase, 0) + n
    marks: dict[int, dict[str, list[Mark]]] = defaultdict(lambda: defaultdict(list))
    others = {firing.schedule for firing in fired.values()} - known.keys()
    schedules = {**known, **(Schedule.objects.listed().in_bulk(others) if others else {})}
    for (pk, row), counts in phases.items():
        at, schedule = fired[pk].at, schedules[fired[pk].schedule]
        mark = Mark(
            at=at,
            ends_at=at + timedelta(minutes=schedule.spread_minutes),
            devices=sum(counts.values()),
            occurrence=pk,
            phases=counts,
        )
        marks[schedule.pk][row].append(mark)
    return [(schedules[pk], [_row(key, of) for key, of in sorted(by_row.items())]) for pk, by_row in marks.items()]


def _how_they_went(fired: Mapping[int, WasFired], rows: Rows) -> Iterator[tuple[int, str, str, int]]:
    """Firing, phase, row and how many devices."""
    for pk, firing in fired.items():
        for where, zone, phase, n in firing.went:
            yield pk, phase, rows.cell((zone,) if rows.kind is RowKind.ZONE else (where, zone))[0], n


def _row(key: str, marks: list[Mark]) -> RowFirings:
    marks.sort(key=lambda m: m.at)
    return RowFirings(
        row=key,
        times=len(marks),
        first=marks[0].at,
        last=marks[-1].ends_at,
        devices=max(m.devices for m in marks),
        marks=marks if len(marks) <= MOST_MARKS else [],
    )
