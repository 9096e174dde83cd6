"""Freezes in the calendar: when they hold, and how many devices in each row."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from django.db.models import Count

from herald.agenda.rows import Rows
from herald.calendar.models import FreezeTime
from herald.calendar.services import freezes_between, held_by
from herald.fleet.models import Device


@dataclass(frozen=True, kw_only=True)
class FreezePlan:
    """One time of a freeze, with the devices that it holds by row."""

    time: FreezeTime
    devices: Mapping[str, int]


def freezes_within(rows: Rows, *, start: datetime, end: datetime) -> Sequence[FreezePlan]:
    """The times of freezes that touch [start, end)."""
    times = freezes_between(start, end)
    if not times:
        return []
    everybody = {row.key: row.devices for row in rows.rows}
    some = [t for t in times if not t.freeze.everywhere]
    of_some = _held(some, rows) if some else {}
    return [FreezePlan(time=t, devices=of_some.get(t.pk, everybody)) for t in times]


def _held(times: Sequence[FreezeTime], rows: Rows) -> dict[int, dict[str, int]]:
    """For each time of a freeze the devices that it holds, by row."""
    counts = {f"f{t.pk}": Count("id", filter=held_by(t), distinct=True) for t in times}
    fields = rows.fields()
    counted = Device.objects.filter(rows.narrowed(), admission="admitted").order_by().values(*fields)
    found: dict[int, dict[str, int]] = {t.pk: {} for t in times}
    for row in counted.annotate(**counts):
        cell = rows.cell([row[f] for f in fields])
        for pk, by_row in found.items():
            if row[f"f{pk}"] and rows.shown({cell: 1}):
                by_row[cell[0]] = by_row.get(cell[0], 0) + row[f"f{pk}"]
    return found
