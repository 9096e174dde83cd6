"""Spans of time that come again each year, by the days and hours of a clock."""

from collections.abc import Iterator
from datetime import datetime, timedelta

from herald_core.timing.clocks import LAST_YEAR, instant, zone

#: A span that comes again is at most so long: one year's is over well before the next year's begins.
LONGEST_YEARLY = timedelta(days=180)


def yearly(
    starts_at: datetime, ends_at: datetime, zone_name: str, *, after: datetime, before: datetime
) -> Iterator[tuple[datetime, datetime]]:
    """The times of a span that touch [after, before), as instants: its own, then those of the years that follow, each
    at the same local day and hour. 29 February is 28 February where there is none."""
    start, end = (moment.astimezone(zone(zone_name)).replace(tzinfo=None) for moment in (starts_at, ends_at))
    first = max(0, after.year - end.year - 1)  # clocks differ from UTC by less than a year
    for years in range(first, min(before.year + 1, LAST_YEAR - 1) - start.year + 1):
        if years == 0:
            begins, ends = starts_at, ends_at
        else:
            begins, _ = instant(_later(start, years), zone_name)
            ends, _ = instant(_later(end, years), zone_name)
        if begins >= before:
            return
        if ends > after:
            yield begins, ends


def _later(local: datetime, years: int) -> datetime:
    try:
        return local.replace(year=local.year + years)
    except ValueError:
        return local.replace(year=local.year + years, day=28)
