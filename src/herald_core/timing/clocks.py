"""Local times to instants, across clock changes."""

from datetime import UTC, datetime, timedelta
from enum import StrEnum
from functools import cache
from zoneinfo import ZoneInfo, available_timezones

#: Names that the time zone files hold beside those of the IANA database; they mean another thing on each machine.
_NOT_IANA = frozenset({"localtime", "posixrules", "Factory"})
#: Dates that a person may plan with; years far from these overflow once a zone's offset is added.
FIRST_YEAR, LAST_YEAR = 2000, 2100


class Shift(StrEnum):
    """What a clock change did to a local time."""

    NONE = ""
    SKIPPED = "skipped"  # the clock jumped over it
    TWICE = "twice"  # it happens two times that day


@cache
def zone_names() -> frozenset[str]:
    """The names of the IANA time zone database that this machine knows."""
    return frozenset(available_timezones()) - _NOT_IANA


def is_zone(name: str) -> bool:
    """Whether `name` is a time zone that a device, site or schedule may have."""
    return name in zone_names()


@cache
def zone(name: str) -> ZoneInfo:
    """The IANA zone of that name.

    Raises:
        ZoneInfoNotFoundError: there is none.
    """
    return ZoneInfo(name)


def city(zone_name: str) -> str:
    """The city that a zone is named after, as people say it: “America/Santiago” is Santiago."""
    return zone_name.rsplit("/", 1)[-1].replace("_", " ")


def instant(local: datetime, zone_name: str) -> tuple[datetime, Shift]:
    """The instant (UTC) of a local time without zone, and what a clock change did to it.

    A time that is skipped becomes the first moment after the change; one that happens twice is the
    first of the two.
    """
    tz = zone(zone_name)
    first = local.replace(tzinfo=tz, fold=0).astimezone(UTC)
    second = local.replace(tzinfo=tz, fold=1).astimezone(UTC)
    if first.astimezone(tz).replace(tzinfo=None) != local:
        return _change_between(second, first, tz), Shift.SKIPPED
    return first, Shift.TWICE if second != first else Shift.NONE


def _change_between(low: datetime, high: datetime, tz: ZoneInfo) -> datetime:
    """The first second after `low` at which the zone's offset is that of `high`."""
    wanted = high.astimezone(tz).utcoffset()
    seconds_low, seconds_high = 0, int((high - low).total_seconds())
    while seconds_low < seconds_high:
        middle = (seconds_low + seconds_high) // 2
        if (low + timedelta(seconds=middle)).astimezone(tz).utcoffset() == wanted:
            seconds_high = middle
        else:
            seconds_low = middle + 1
    return low + timedelta(seconds=seconds_low)
