"""Windows: hours of days in which device work may happen, by the device's clock or a named one."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache

from herald_core.timing.clocks import instant, zone

EVERY_DAY = frozenset(range(7))
DEVICE_CLOCK = "device"
#: The answer where a window never opens again. An instant, so that it compares like any other.
NEVER = datetime.max.replace(tzinfo=UTC)
#: A clock change can swallow an opening, and so can a date that a zone skips; a window without any day never opens.
SEARCH_DAYS = 400


@dataclass(frozen=True, kw_only=True)
class Window:
    """Open from `start` up to `end` on `days` (0 is Monday, of the day on which it opens).

    `end` not after `start` means the next day. `clock` is "device" or an IANA zone.
    """

    start: time
    end: time
    days: frozenset[int] = EVERY_DAY
    clock: str = DEVICE_CLOCK

    def zone_of(self, device_zone: str) -> str:
        return device_zone if self.clock == DEVICE_CLOCK else self.clock

    @property
    def length(self) -> timedelta:
        """How long it is open each time, where no clock changes."""
        minutes = (self.end.hour - self.start.hour) * 60 + self.end.minute - self.start.minute
        return timedelta(minutes=minutes if minutes > 0 else minutes + 24 * 60)

    def opening(self, day: date, zone_name: str) -> tuple[datetime, datetime]:
        """The opening that begins on a local day: [start, end) as instants."""
        return _opening(self.start, self.end, day, zone_name)


@lru_cache(maxsize=20_000)  # asked again and again, and clock changes make it slow
def _opening(start: time, end: time, day: date, zone_name: str) -> tuple[datetime, datetime]:
    last = day if end > start else day + timedelta(days=1)
    begins, _ = instant(datetime.combine(day, start), zone_name)
    ends, _ = instant(datetime.combine(last, end), zone_name)
    return begins, ends


def open_until(window: Window | None, device_zone: str, now: datetime) -> datetime | None:
    """When the opening that holds `now` ends; None while the window is closed.

    No window at all is always open, until the end of time.
    """
    opening = opening_at(window, device_zone, now)
    return opening[1] if opening else None


def opening_at(window: Window | None, device_zone: str, now: datetime) -> tuple[datetime, datetime] | None:
    """The opening [begin, end) that holds `now`; None while it is closed. No window is open through all time."""
    if window is None:
        return datetime.min.replace(tzinfo=now.tzinfo), datetime.max.replace(tzinfo=now.tzinfo)
    zone_name = window.zone_of(device_zone)
    today = now.astimezone(zone(zone_name)).date()
    for day in (today, today - timedelta(days=1)):
        begins, ends = window.opening(day, zone_name)
        if day.weekday() in window.days and begins <= now < ends:
            return begins, ends
    return None


def openings(
    window: Window | None, device_zone: str, *, start: datetime, end: datetime
) -> list[tuple[datetime, datetime]]:
    """The openings [begin, end) of a window that touch [start, end), the first first; all of the time for no window."""
    if end <= start:
        return []
    if window is None:
        return [(start, end)]
    zone_name = window.zone_of(device_zone)
    day = start.astimezone(zone(zone_name)).date() - timedelta(days=1)
    last = end.astimezone(zone(zone_name)).date()
    found = []
    while day <= last:
        begins, ends = window.opening(day, zone_name)
        if day.weekday() in window.days and begins < end and ends > start and begins < ends:
            found.append((begins, ends))
        day += timedelta(days=1)
    return found


def short_openings(
    window: Window, device_zone: str, needed: timedelta, *, start: datetime, end: datetime
) -> list[tuple[date, timedelta]]:
    """The days in [start, end) on which a clock change leaves a window too short for work that takes `needed`, with
    how long it is then; no time at all counts."""
    zone_name = window.zone_of(device_zone)
    day, last = start.astimezone(zone(zone_name)).date(), end.astimezone(zone(zone_name)).date()
    found = []
    while day < last:
        begins, ends = window.opening(day, zone_name)
        if day.weekday() in window.days and ends - begins < needed:
            found.append((day, max(timedelta(0), ends - begins)))
        day += timedelta(days=1)
    return found


def carried(spans: Iterable[tuple[datetime, datetime]], takes: timedelta, at_once: int) -> int:
    """How many devices that take so long each fit into these spans, so many at once, each within one span."""
    return sum(at_once * max(0, (ends - begins) // takes) for begins, ends in spans)


def next_begin(window: Window | None, device_zone: str, now: datetime, needed: timedelta) -> datetime:
    """The next instant, from `now` on, at which work that takes `needed` may begin and end in the same opening."""
    closes = open_until(window, device_zone, now)
    if closes is None:
        return next_opening(window, device_zone, now)
    return now if window is None or now + needed < closes else next_opening(window, device_zone, closes)


def next_opening(window: Window | None, device_zone: str, now: datetime) -> datetime:
    """The next instant at which the window opens, or `now` where it is open.

    `NEVER` where it does not open within `SEARCH_DAYS` days. An opening that a clock change leaves without any
    length is none, so a weekly window may skip a week.
    """
    if open_until(window, device_zone, now) is not None or window is None:
        return now
    zone_name = window.zone_of(device_zone)
    today = now.astimezone(zone(zone_name)).date()
    for ahead in range(SEARCH_DAYS if window.days else 0):
        day = today + timedelta(days=ahead)
        if day.weekday() in window.days:
            begins, ends = window.opening(day, zone_name)
            if begins >= now and ends > begins:
                return begins
    return NEVER
