"""Firings of a schedule by device clocks or a named one, and the spread of devices within one."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta

from herald_core.timing.clocks import Shift, instant, zone
from herald_core.timing.recurrence import Recurrence
from herald_core.timing.spread import spread_position_of

#: A clock change moves a time by at most so much: zones have skipped a whole day.
_WIDEST_CHANGE = timedelta(hours=25)


@dataclass(frozen=True, kw_only=True)
class Firing:
    """One moment at which a schedule fires in a zone: `local` is the time of its rule, `at` the instant in UTC."""

    local: datetime
    at: datetime
    shift: Shift


def firings(recurrence: Recurrence, zone_name: str, *, after: datetime) -> Iterator[Firing]:
    """The firings in a zone, later than `after`, soonest first.

    A time that a clock change skips runs at the first moment after it, once where several times are skipped; one that
    happens twice runs the first time.
    """
    last = after
    for local in recurrence.times(after.astimezone(zone(zone_name)).replace(tzinfo=None) - _WIDEST_CHANGE):
        at, shift = instant(local, zone_name)
        if at > last:
            last = at
            yield Firing(local=local, at=at, shift=shift)


def spread_seconds(schedule_key: str, device_uid: str, spread: timedelta) -> int:
    """The device's own offset within a firing, in seconds: always the same, level over the devices."""
    return int(spread_position_of(f"{schedule_key}/{device_uid}") * spread.total_seconds())
