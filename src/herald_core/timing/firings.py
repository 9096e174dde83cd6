"""Firings of a daily command by device clocks, and the spread of devices within one."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta

from herald_core.timing.clocks import LAST_YEAR, Shift, instant, zone
from herald_core.timing.spread import spread_position_of


@dataclass(frozen=True, kw_only=True)
class Firing:
    """One moment at which a schedule fires in a zone. `at` is an instant in UTC."""

    on: date
    at: datetime
    shift: Shift


def daily_firings(at: time, zone_name: str, *, after: datetime, until: date | None = None) -> Iterator[Firing]:
    """The firings of “every day at” in a zone, later than `after`, soonest first; `until` is the last day."""
    day = after.astimezone(zone(zone_name)).date() - timedelta(days=1)
    last = date(LAST_YEAR, 1, 1) if until is None else min(until, date(LAST_YEAR, 1, 1))
    while day <= last:
        moment, shift = instant(datetime.combine(day, at), zone_name)
        if moment > after:
            yield Firing(on=day, at=moment, shift=shift)
        day += timedelta(days=1)


def spread_seconds(schedule_key: str, device_uid: str, spread: timedelta) -> int:
    """The device's own offset within a firing, in seconds: always the same, level over the devices."""
    return int(spread_position_of(f"{schedule_key}/{device_uid}") * spread.total_seconds())
