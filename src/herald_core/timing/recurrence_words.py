"""A recurrence in plain words: “every Monday and Thursday at 05:30”, “on the first Monday of every month at 02:00”."""

from collections.abc import Mapping, Sequence
from datetime import date, datetime

from herald_core.text import in_words
from herald_core.timing.recurrence import DAYS, Recurrence, parts_of, until_of

_DAY_NAMES = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_MONTHS = (
    "January", "February", "March", "April", "May", "June",
    "July", "August", "September", "October", "November", "December",
)  # fmt: skip
_ORDINALS = {1: "first", 2: "second", 3: "third", 4: "fourth", 5: "fifth", -1: "last", -2: "last but one"}
_UNITS = {"HOURLY": "hour", "DAILY": "day", "WEEKLY": "week", "MONTHLY": "month", "YEARLY": "year"}
#: Parts that have words here; a rule with any other is shown as its text.
_WORDED = {"FREQ", "INTERVAL", "BYDAY", "BYMONTHDAY", "BYMONTH", "BYHOUR", "BYMINUTE", "COUNT", "UNTIL", "WKST"}
_WEEKDAYS = set(DAYS[:5])


def recurrence_words(recurrence: Recurrence) -> str:
    """How often, and at which time of day: without its start, its end, its exceptions and its clock."""
    if not recurrence.rule:
        return f"on {day_words(recurrence.start.date())} at {recurrence.start:%H:%M}"
    parts = parts_of(recurrence.rule)
    often = _often(parts, recurrence.start) if set(parts) <= _WORDED else ""
    if not often:
        return f"by the rule {_without_end(recurrence.rule)}{_by_start(parts, recurrence.start)}"
    return often + _times(parts, recurrence.start)


def end_words(recurrence: Recurrence) -> str:
    """“until 31 Mar 2027”, “10 times”; empty where it goes on."""
    parts = parts_of(recurrence.rule)
    if "UNTIL" in parts:
        until = until_of(parts["UNTIL"])
        return f"until {day_words(until.date())}" + (f" {until:%H:%M}" if "T" in parts["UNTIL"] else "")
    if "COUNT" in parts:
        return "once" if parts["COUNT"] == "1" else f"{parts['COUNT']} times"
    return ""


def day_words(day: date) -> str:
    """A day: 31 Mar 2027."""
    return f"{day:%-d %b %Y}"


def _often(parts: Mapping[str, str], start: datetime) -> str:
    frequency, every = parts["FREQ"], int(parts.get("INTERVAL", 1))
    days = parts["BYDAY"].split(",") if "BYDAY" in parts else []
    ordinals = any(len(d) > 2 for d in days)
    unit = _UNITS[frequency]
    repeats = f"every {unit}" if every == 1 else f"every {every} {unit}s"
    months = [_MONTHS[int(m) - 1] for m in parts["BYMONTH"].split(",")] if "BYMONTH" in parts else []
    month_days = [int(d) for d in parts["BYMONTHDAY"].split(",")] if "BYMONTHDAY" in parts else []
    if frequency in ("HOURLY", "DAILY"):
        if ordinals or month_days:
            return ""
        on = f" on {_day_list(days)}" if days else ""
        return repeats + on + (f" in {in_words(months)}" if months else "")
    if frequency == "WEEKLY":
        named = _day_list(days or [DAYS[start.weekday()]])
        on = f"every {named}" if every == 1 and named != "working days" else f"{repeats} on {named}"
        on = "on working days" if every == 1 and named == "working days" else on
        return on + (f" in {in_words(months)}" if months else "")
    if days and (month_days or not ordinals):
        return ""
    if frequency == "YEARLY" and not months and (days or month_days):
        return ""
    if days:
        which = in_words([f"the {o} {d}" for o, d in map(_ordinal_day, days) if o])
        if len([d for d in days if _ordinal_day(d)[0]]) < len(days):
            return ""
    elif frequency == "YEARLY" and not months:
        months, which = [_MONTHS[start.month - 1]], f"{start.day}"
    elif frequency == "YEARLY" and all(d > 0 for d in month_days):
        which = in_words([str(d) for d in month_days])
    else:
        which = _month_day_list(month_days or [start.day])
    if frequency == "YEARLY":
        return f"{repeats} on {which} {'of ' if days or not which[0].isdigit() else ''}{in_words(months)}"
    if months:
        return f"on {which} of {in_words(months)}" if every == 1 else ""
    return f"on {which} of {repeats}"


def _ordinal_day(value: str) -> tuple[str, str]:
    ordinal = int(value[:-2]) if value[:-2] else 0
    return _ORDINALS.get(ordinal, ""), _DAY_NAMES[DAYS.index(value[-2:])]


def _day_list(days: Sequence[str]) -> str:
    if set(days) == _WEEKDAYS:
        return "working days"
    return in_words([_DAY_NAMES[i] for i, d in enumerate(DAYS) if d in days])


def _month_day_list(days: Sequence[int]) -> str:
    words = [f"day {d}" for d in days if d > 0]
    words += ["the last day" if d == -1 else f"day {-d} from the end" for d in days if d < 0]
    return in_words(words)


def _times(parts: Mapping[str, str], start: datetime) -> str:
    minutes = parts.get("BYMINUTE", str(start.minute)).split(",")
    if parts["FREQ"] == "HOURLY" and "BYHOUR" not in parts:
        every = int(parts.get("INTERVAL", 1))
        at = f" at minute {in_words(minutes)}"
        return at if every == 1 else f" from {start:%H:%M}" + (at if "BYMINUTE" in parts else "")
    hours = parts.get("BYHOUR", str(start.hour)).split(",")
    return " at " + in_words([f"{int(h):02}:{int(m):02}" for h in sorted(hours, key=int) for m in minutes])


def _by_start(parts: Mapping[str, str], start: datetime) -> str:
    """The time of day where the rule itself does not say it."""
    return "" if "BYHOUR" in parts else f" at {start:%H:%M}"


def _without_end(rule: str) -> str:
    return ";".join(p for p in rule.split(";") if not p.startswith(("COUNT=", "UNTIL=")))
