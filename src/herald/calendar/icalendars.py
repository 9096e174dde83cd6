"""Calendars as text (RFC 5545): reading the freezes that stand in one, and writing freezes into one."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta

import recurring_ical_events
from icalendar import Calendar, Event
from icalendar.error import InvalidCalendar

from herald.calendar.models import UTC_CLOCK, Freeze
from herald_core.text import nfc
from herald_core.timing.clocks import FIRST_YEAR, LAST_YEAR, instant, zone
from herald_core.timing.recurrence import Recurrence, RuleError, check_recurrence, read_rule

MOST_BYTES = 1024 * 1024
#: what comes later is read when it is nearer
AHEAD = timedelta(days=400)
#: more than these make no list that a person could read before agreeing
MOST_EVENTS = 500
PRODUCT = "-//Brisk Herald//Calendar//EN"
_LONGEST_NAME, _LONGEST_WHY = 80, 300


class CalendarError(Exception):
    """What was given cannot be read as a calendar; the words say why."""


@dataclass(frozen=True, kw_only=True)
class CalendarEvent:
    """One time of an event: [starts_at, ends_at). `uid` is the same each time that the calendar is read."""

    uid: str
    name: str
    why: str
    starts_at: datetime
    ends_at: datetime


@dataclass(frozen=True)
class ReadCalendar:
    """What stands in a calendar from now on, the first first; and in words what was left out, and why."""

    events: Sequence[CalendarEvent]
    left_out: Sequence[str]


def read_calendar(data: bytes, *, time_zone: str, now: datetime) -> ReadCalendar:
    """The events that are not over, up to 400 days from now; those that repeat, time by time. Whole days, and times
    without a zone, are by the clock of `time_zone`.

    Raises:
        CalendarError: it is no calendar, or has too many events.
    """
    calendar = _parsed(data)
    left_out: list[str] = []
    for event in [e for e in calendar.walk("VEVENT") if isinstance(e, Event)]:
        if problem := _problem(event):
            left_out.append(f"{_text(event, 'SUMMARY') or 'An event without a name'}: {problem}")
            calendar.subcomponents.remove(event)
    found: dict[str, CalendarEvent] = {}
    try:
        for event in recurring_ical_events.of(calendar).between(now - timedelta(days=1), now + AHEAD):
            assert isinstance(event, Event)
            read = _event(event, time_zone)
            if _text(event, "STATUS").upper() == "CANCELLED" or read.ends_at <= now:
                continue
            if read.ends_at <= read.starts_at:
                left_out.append(f"{read.name}: it has no length")
            elif read.starts_at.year < FIRST_YEAR or read.ends_at.year >= LAST_YEAR:
                left_out.append(f"{read.name}: its years are too far away")
            else:
                found.setdefault(read.uid, read)
            if len(found) > MOST_EVENTS:
                raise CalendarError(f"It has more than {MOST_EVENTS} events within {AHEAD.days} days.")
    except (ValueError, KeyError, TypeError, AttributeError, OverflowError) as error:
        raise CalendarError(f"It is a calendar, but an event in it cannot be read: {error}.") from error
    events = sorted(found.values(), key=lambda e: (e.starts_at, e.uid))
    return ReadCalendar(events, list(dict.fromkeys(left_out)))


def _parsed(data: bytes) -> Calendar:
    if len(data) > MOST_BYTES:
        raise CalendarError(f"It is larger than {MOST_BYTES // 1024:,} kB.")
    try:
        text = data.decode("utf-8-sig")
        if "BEGIN:VCALENDAR" not in text:
            raise CalendarError("This is no calendar: it does not begin with BEGIN:VCALENDAR.")
        calendar = Calendar.from_ical(text)
    except UnicodeDecodeError as error:
        raise CalendarError("It is not in UTF-8.") from error
    except (ValueError, KeyError, IndexError, InvalidCalendar) as error:
        raise CalendarError(f"It cannot be read as a calendar: {error}.") from error
    assert isinstance(calendar, Calendar)
    return calendar


def _problem(event: Event) -> str:
    """Why an event cannot be taken, in words; empty where it can. Rules are held against what schedules may say: a rule
    that never comes to an end of looking is no freeze."""
    start = _moment(event, "DTSTART")
    if start is None:
        return "it has no start"
    if not _text(event, "UID"):
        return "it has no UID"
    local = start.replace(tzinfo=None) if isinstance(start, datetime) else datetime.combine(start, time())
    rules = event.get("RRULE", [])
    for rule in rules if isinstance(rules, list) else [rules]:
        parts = rule.to_ical().decode().split(";")
        try:
            read = read_rule(";".join(p for p in parts if not p.startswith("UNTIL=")))
            if read.startswith("FREQ=HOURLY"):
                return "it repeats by the hour"
            check_recurrence(Recurrence(start=max(local, datetime(FIRST_YEAR, 1, 1)), rule=read))  # noqa: DTZ001
        except RuleError as error:
            return f"it repeats by a rule that is not read: {error}"
    return ""


def _event(event: Event, time_zone: str) -> CalendarEvent:
    starts, ends = _moment(event, "DTSTART"), _moment(event, "DTEND")
    if starts is None or ends is None:
        raise ValueError("it has no start or no end")
    uid = _text(event, "UID")
    return CalendarEvent(
        uid=f"{uid[:250]}/{_stamp(starts)}",
        name=nfc(_text(event, "SUMMARY"))[:_LONGEST_NAME].strip() or "Without a name",
        why=nfc(_text(event, "DESCRIPTION"))[:_LONGEST_WHY].strip(),
        starts_at=_instant(starts, time_zone),
        ends_at=_instant(ends, time_zone),
    )


def _moment(event: Event, name: str) -> date | None:
    """A day, or a day with a time; None where the event has none."""
    found: object = getattr(event.get(name), "dt", None)
    return found if isinstance(found, date) else None


def _stamp(moment: date) -> str:
    return f"{moment:%Y%m%dT%H%M}" if isinstance(moment, datetime) else f"{moment:%Y%m%d}"


def _instant(moment: date, time_zone: str) -> datetime:
    if isinstance(moment, datetime):
        return moment.astimezone(UTC) if moment.tzinfo else instant(moment, time_zone)[0]
    return instant(datetime.combine(moment, time()), time_zone)[0]


def _text(event: Event, name: str) -> str:
    value = event.get(name, "")
    text = str(value[0] if isinstance(value, list) and value else value)
    return "".join(c for c in text if c == "\n" or c.isprintable())


def write_calendar(name: str, events: Iterable[Event], *, years: tuple[date, date] | None = None) -> bytes:
    """A calendar of these events, with the definitions of the time zones that they name: for so many years, where it is
    read again and again, and else for as many as are known. Some programs read long definitions wrong."""
    calendar = Calendar()
    calendar.add("PRODID", PRODUCT)
    calendar.add("VERSION", "2.0")
    calendar.add("NAME", name)
    calendar.add("X-WR-CALNAME", name)
    for event in events:
        calendar.add_component(event)
    if years is None:
        calendar.add_missing_timezones()
    else:
        calendar.add_missing_timezones(first_date=years[0], last_date=years[1])
    written: bytes = calendar.to_ical()
    return written


def freeze_event(freeze: Freeze, *, now: datetime) -> Event:
    """A freeze as an event of a calendar; one that repeats by its rule."""
    event = Event()
    event.add("UID", f"freeze-{freeze.pk}@brisk-herald")
    event.add("DTSTAMP", now.astimezone(UTC))
    event.add("SUMMARY", f"Freeze: {freeze.name}")
    event.add("SEQUENCE", freeze.revision - 1)
    if freeze.why:
        event.add("DESCRIPTION", freeze.why)
    clock = UTC if freeze.time_zone == UTC_CLOCK else zone(freeze.time_zone)
    event.add("DTSTART", freeze.starts_at.astimezone(clock))
    event.add("DTEND", freeze.ends_at.astimezone(clock))
    if freeze.repeats_yearly:
        event.add("RRULE", {"FREQ": "YEARLY"})
    return event
