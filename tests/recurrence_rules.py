"""Recurrences made up from a seed, and two other readings of them: one by hand, one by a calendar library."""

import random
import sys
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from itertools import takewhile

import icalendar
import recurring_ical_events

from herald_core.timing.clocks import Shift, instant, zone
from herald_core.timing.firings import firings
from herald_core.timing.recurrence import DAYS, Recurrence, parts_of, read_rule, until_of

#: both hemispheres, half hours, a change of half an hour, changes at midnight, zones that changed their rules
ZONES = (
    "Europe/Lisbon", "America/New_York", "America/Santiago", "Australia/Adelaide", "Australia/Lord_Howe",
    "Asia/Kolkata", "Africa/Nairobi", "Asia/Beirut", "Africa/Casablanca", "Europe/Istanbul", "Pacific/Apia", "UTC",
)  # fmt: skip
#: how far ahead firings are compared, by how often they come
_AHEAD = {"HOURLY": 40, "DAILY": 500, "WEEKLY": 900, "MONTHLY": 1500, "YEARLY": 4000}


def make_recurrence(rng: random.Random) -> Recurrence:
    """A recurrence of any kind that the plain reading below knows."""
    start = datetime(rng.randint(2015, 2030), rng.randint(1, 12), rng.randint(1, 28)) + timedelta(  # noqa: DTZ001
        days=rng.randint(0, 5), hours=rng.randint(0, 23), minutes=rng.choice((0, 15, 30, 59))
    )
    frequency = rng.choice(tuple(_AHEAD))
    parts = {"FREQ": frequency, "INTERVAL": str(rng.choice((1, 1, 2, 3, 5, 7)))}
    if frequency in ("MONTHLY", "YEARLY") and rng.random() < 0.7:
        if rng.random() < 0.5:
            parts["BYMONTHDAY"] = _some(rng, (1, 2, 15, 28, 29, 30, 31, -1, -2, -31))
        else:
            parts["BYDAY"] = ",".join(f"{rng.choice((1, 2, 3, 4, 5, -1, -2))}{d}" for d in rng.sample(DAYS, 2))
        if frequency == "YEARLY":
            parts["BYMONTH"] = _some(rng, range(1, 13))
    elif frequency in ("HOURLY", "DAILY", "WEEKLY") and rng.random() < 0.6:
        parts["BYDAY"] = ",".join(rng.sample(DAYS, rng.randint(1, 5)))
    if frequency != "YEARLY" and rng.random() < 0.2:
        parts["BYMONTH"] = _some(rng, range(1, 13))
    if frequency != "HOURLY" and rng.random() < 0.3:
        parts["BYHOUR"] = _some(rng, range(24))
    if rng.random() < 0.3:
        parts["COUNT"] = str(rng.randint(1, 30))
    elif rng.random() < 0.3:
        until = start + timedelta(days=rng.randint(0, _AHEAD[frequency]), hours=rng.randint(-12, 12))
        parts["UNTIL"] = f"{until:%Y%m%d}" if rng.random() < 0.5 else f"{until:%Y%m%dT%H%M%S}"
    recurrence = Recurrence(start=start, rule=read_rule(";".join(f"{k}={v}" for k, v in parts.items())))
    some = [t for t, _ in zip(recurrence.times(), range(10), strict=False)]
    excluded = frozenset(rng.sample(some, min(len(some), rng.randint(0, 2))))
    return Recurrence(start=start, rule=recurrence.rule, excluded=excluded)


def _some(rng: random.Random, values: range | tuple[int, ...]) -> str:
    return ",".join(map(str, rng.sample(list(values), rng.randint(1, 3))))


def horizon(recurrence: Recurrence) -> datetime:
    """The local time up to which firings are compared."""
    return recurrence.start + timedelta(days=_AHEAD[parts_of(recurrence.rule)["FREQ"]])


def by_hand(recurrence: Recurrence) -> list[datetime]:
    """The local times up to the horizon: each hour or day is looked at, and asked whether the rule names it."""
    parts, found = parts_of(recurrence.rule), []
    count = int(parts.get("COUNT", 10**6))
    until = until_of(parts["UNTIL"]) if "UNTIL" in parts else horizon(recurrence)
    for time in takewhile(lambda t: t <= horizon(recurrence), _candidates(recurrence.start, parts)):
        if time < recurrence.start or not _named(time, recurrence.start, parts):
            continue
        count -= 1
        if count < 0 or time > until:
            break
        if time not in recurrence.excluded:
            found.append(time)
    return found


def _candidates(start: datetime, parts: dict[str, str]) -> Iterator[datetime]:
    if parts["FREQ"] == "HOURLY":
        time = start
        while True:
            yield time
            time += timedelta(hours=1)
    hours = sorted({int(h) for h in parts.get("BYHOUR", str(start.hour)).split(",")})
    day = start.replace(hour=0)
    while True:
        yield from (day.replace(hour=h) for h in hours)
        day += timedelta(days=1)


def _named(time: datetime, start: datetime, parts: dict[str, str]) -> bool:
    every, frequency = int(parts.get("INTERVAL", 1)), parts["FREQ"]
    monday, first_monday = time.date() - timedelta(time.weekday()), start.date() - timedelta(start.weekday())
    periods = {
        "HOURLY": (time - start) // timedelta(hours=1),
        "DAILY": (time.date() - start.date()).days,
        "WEEKLY": (monday - first_monday).days // 7,
        "MONTHLY": (time.year - start.year) * 12 + time.month - start.month,
        "YEARLY": time.year - start.year,
    }
    if periods[frequency] % every:
        return False
    if "BYMONTH" in parts and str(time.month) not in parts["BYMONTH"].split(","):
        return False
    length = ((time.replace(day=28) + timedelta(days=4)).replace(day=1) - timedelta(days=1)).day
    if "BYMONTHDAY" in parts:
        return any(int(d) in (time.day, time.day - length - 1) for d in parts["BYMONTHDAY"].split(","))
    if "BYDAY" in parts:
        name, nth, from_end = DAYS[time.weekday()], (time.day - 1) // 7 + 1, -((length - time.day) // 7 + 1)
        return any(d in (name, f"{nth}{name}", f"{from_end}{name}") for d in parts["BYDAY"].split(","))
    if frequency == "WEEKLY":
        return time.weekday() == start.weekday()
    if frequency == "YEARLY" and "BYMONTH" not in parts and time.month != start.month:
        return False
    return time.day == start.day if frequency in ("MONTHLY", "YEARLY") else True


def by_calendar(recurrence: Recurrence, zone_name: str) -> list[datetime]:
    """The local times up to the horizon, as a library for calendars reads them from an event in that zone."""
    parts = parts_of(recurrence.rule)
    if "UNTIL" in parts:
        until, _ = instant(until_of(parts["UNTIL"]), zone_name)
        parts["UNTIL"] = f"{until:%Y%m%dT%H%M%SZ}"
    rule = ";".join(f"{k}={v}" for k, v in parts.items())
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//tests//", "BEGIN:VEVENT", "UID:1"]
    lines += [f"DTSTART;TZID={zone_name}:{recurrence.start:%Y%m%dT%H%M%S}", f"RRULE:{rule}"]
    # with several times a day the library leaves out more than it is told to, so there they are left out afterwards
    several_a_day = parts["FREQ"] == "HOURLY" or "," in parts.get("BYHOUR", "")
    left_out = frozenset() if several_a_day else recurrence.excluded
    lines += [f"EXDATE;TZID={zone_name}:{t:%Y%m%dT%H%M%S}" for t in sorted(left_out)]
    lines += ["DURATION:PT1S", "END:VEVENT", "END:VCALENDAR", ""]
    calendar = icalendar.Calendar.from_ical("\r\n".join(lines))
    begin, end = (t.replace(tzinfo=zone(zone_name)) for t in (recurrence.start, horizon(recurrence)))
    events = recurring_ical_events.of(calendar).between(begin - timedelta(days=1), end + timedelta(days=1))
    starts = sorted({e.start.replace(tzinfo=None) for e in events} - recurrence.excluded)
    # the library takes the start itself for an occurrence, whether or not the rule names it
    return [t for t in starts if t <= horizon(recurrence) and (t != recurrence.start or _named(t, t, parts))]


def disagreement(recurrence: Recurrence, zone_name: str) -> str:
    """What the readings say differently; empty where all agree."""
    ours = list(takewhile(lambda t: t <= horizon(recurrence), recurrence.times()))
    if ours != by_hand(recurrence):
        return f"{recurrence} by hand: {ours[:9]} and {by_hand(recurrence)[:9]}"
    if recurrence.start in by_hand(recurrence) or recurrence.start in recurrence.excluded:
        # a start that the rule does not name is counted by the library, and by nobody else
        theirs = by_calendar(recurrence, zone_name)
        skipped = {t for t in {*theirs, *ours} if instant(t, zone_name)[1] is Shift.SKIPPED}
        if [t for t in ours if t not in skipped] != [t for t in theirs if t not in skipped]:
            return f"{recurrence} in {zone_name}, by a calendar: {ours[:9]} and {theirs[:9]}"
    begin = instant(recurrence.start, zone_name)[0] - timedelta(seconds=1)
    fired = list(takewhile(lambda f: f.local <= horizon(recurrence), firings(recurrence, zone_name, after=begin)))
    if [f.local for f in fired] != _once_each(ours, zone_name):
        return f"{recurrence} fires in {zone_name} at {fired[:9]}"
    late = fired[len(fired) // 2].at if fired else begin
    again = list(takewhile(lambda f: f.local <= horizon(recurrence), firings(recurrence, zone_name, after=late)))
    if again != [f for f in fired if f.at > late]:
        return f"{recurrence} in {zone_name}, begun late: {again[:9]}"
    return ""


def _once_each(times: list[datetime], zone_name: str) -> list[datetime]:
    """The times without those that a clock change moves to the moment of one before."""
    kept: list[datetime] = []
    last = datetime.min.replace(tzinfo=UTC)
    for time in times:
        at = instant(time, zone_name)[0]
        if at > last:
            kept.append(time)
            last = at
    return kept


def main(first: int, count: int) -> None:
    """Compare the readings of so many recurrences, and end with an error where any differs."""
    for seed in range(first, first + count):
        rng = random.Random(seed)
        if found := disagreement(make_recurrence(rng), rng.choice(ZONES)):
            sys.exit(f"seed {seed}: {found}")
    print(f"{count} recurrences from seed {first} on: all readings agree")


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
