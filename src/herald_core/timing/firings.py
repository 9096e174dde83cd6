"""Firings of a schedule by device clocks or a named one, and the spread of devices within one."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from itertools import takewhile

from herald_core.timing.clocks import Shift, instant, zone
from herald_core.timing.recurrence import Recurrence
from herald_core.timing.spread import spread_position_of

#: a device that comes back late runs a firing that is at most so old, if the schedule says so
LATE_FOR = timedelta(days=30)
#: A clock change moves a time by at most so much: zones have skipped a whole day.
_WIDEST_CHANGE = timedelta(hours=25)
#: No zone has changed its clock twice within so short a time.
_SAMPLED = timedelta(hours=12)


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


def firings_within(
    recurrence: Recurrence, zone_names: Iterable[str], *, start: datetime, end: datetime
) -> dict[str, list[Firing]]:
    """The firings in [start, end) in each of some zones, soonest first; the rule is walked through once for all."""
    names = list(dict.fromkeys(zone_names))
    if not names or end <= start:
        return {name: [] for name in names}
    low = min(start.astimezone(zone(n)).replace(tzinfo=None) for n in names) - _WIDEST_CHANGE
    high = max(end.astimezone(zone(n)).replace(tzinfo=None) for n in names) + _WIDEST_CHANGE
    times = list(takewhile(lambda t: t < high, recurrence.times(low)))
    return {name: list(_within(times, name, start, end)) for name in names}


def _within(times: Iterable[datetime], zone_name: str, start: datetime, end: datetime) -> Iterator[Firing]:
    """Of local times those that fall into [start, end) in a zone. Where its clock does not change in these days, times
    are moved by its offset, which is much faster than asking what became of each."""
    offset = _steady_offset(zone_name, start, end)
    last: datetime | None = None
    for local in times:
        if offset is not None:
            at, shift = (local - offset).replace(tzinfo=UTC), Shift.NONE
        else:
            at, shift = instant(local, zone_name)
        if (last is None or at > last) and at < end:
            last = at
            if at >= start:
                yield Firing(local=local, at=at, shift=shift)


@lru_cache(maxsize=4096)  # asked for each schedule in a zone, and answered alike for all
def _steady_offset(zone_name: str, start: datetime, end: datetime) -> timedelta | None:
    """The offset of a zone where it is the same at each hour from a good day before to a good day after."""
    clock, moment = zone(zone_name), start.astimezone(UTC) - 2 * _WIDEST_CHANGE
    offset = moment.astimezone(clock).utcoffset()
    last = end.astimezone(UTC) + 2 * _WIDEST_CHANGE
    while moment <= last:
        if moment.astimezone(clock).utcoffset() != offset:
            return None
        moment += _SAMPLED
    return offset


def spread_seconds(schedule_key: str, device_uid: str, spread: timedelta) -> int:
    """The device's own offset within a firing, in seconds: always the same, level over the devices."""
    return int(spread_position_of(f"{schedule_key}/{device_uid}") * spread.total_seconds())
