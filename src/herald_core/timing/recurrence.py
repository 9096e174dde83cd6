"""When something repeats: the recurrence rules of RFC 5545 (RRULE, EXDATE) over local times without a zone.

The expansion by weeks, months and years is python-dateutil's. Here are the checks with words that help, the defaults
that the RFC takes from the start made explicit, the steps by hours and days, and the way to begin late in a rule
without walking through all that lies before.
"""

from calendar import isleap, monthrange
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import lru_cache
from itertools import pairwise, takewhile

from dateutil.rrule import rrule, rrulestr

from herald_core.timing.clocks import FIRST_YEAR, LAST_YEAR

DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
MAX_COUNT = 10_000
MAX_INTERVAL = 1_000
MAX_TEXT = 500
#: Two firings are at least so far apart.
LEAST_GAP = timedelta(minutes=15)
#: So many firings are looked at for the gaps between them.
_LOOKED_AT = 100
_END = datetime(LAST_YEAR, 1, 1)  # noqa: DTZ001  a local time
#: Rules by hours and days go in steps, each of which is looked at.
_STEPS: Mapping[str, timedelta] = {"HOURLY": timedelta(hours=1), "DAILY": timedelta(days=1)}
#: A firing is looked for at most so far ahead of the one before: by days past the next 29 February.
_AHEAD: Mapping[str, timedelta] = {"HOURLY": timedelta(days=400), "DAILY": timedelta(days=5 * 366)}

#: The lists of numbers, with the lowest and highest that each takes; True where they may count from the end.
_NUMBERS: Mapping[str, tuple[int, int, bool]] = {
    "BYMONTH": (1, 12, False),
    "BYMONTHDAY": (1, 31, True),
    "BYYEARDAY": (1, 366, True),
    "BYWEEKNO": (1, 53, True),
    "BYHOUR": (0, 23, False),
    "BYMINUTE": (0, 59, False),
    "BYSETPOS": (1, 366, True),
}
_FREQUENCIES = ("HOURLY", "DAILY", "WEEKLY", "MONTHLY", "YEARLY")
#: The order in which a rule is written.
_ORDER = (
    "FREQ", "INTERVAL", "BYMONTH", "BYWEEKNO", "BYYEARDAY", "BYMONTHDAY", "BYDAY", "BYHOUR", "BYMINUTE", "BYSETPOS",
    "WKST", "COUNT", "UNTIL",
)  # fmt: skip
#: Parts that do not go with a frequency (RFC 5545, section 3.3.10).
_NOT_WITH: Mapping[str, tuple[str, ...]] = {
    "BYWEEKNO": ("HOURLY", "DAILY", "WEEKLY", "MONTHLY"),
    "BYYEARDAY": ("DAILY", "WEEKLY", "MONTHLY"),
    "BYMONTHDAY": ("WEEKLY",),
}


class RuleError(ValueError):
    """A recurrence rule does not fit; the words say which part and what would."""


@dataclass(frozen=True, kw_only=True)
class Recurrence:
    """What repeats from `start` on by `rule`, the text of an RRULE; an empty rule is once, at the start.

    `excluded` are local times that are left out (EXDATE). All times are local, without a zone.
    """

    start: datetime
    rule: str = ""
    excluded: frozenset[datetime] = field(default_factory=frozenset)

    def times(self, after: datetime | None = None) -> Iterator[datetime]:
        """The local times later than `after`, or all of them, soonest first."""
        found = self._from(after) if self.rule else iter((self.start,))
        return (t for t in found if (after is None or t > after) and t >= self.start and t not in self.excluded)

    def _from(self, after: datetime | None) -> Iterator[datetime]:
        parts = _explicit(self.rule, self.start)
        start = self.start if after is None or "COUNT" in parts else _near(parts, self.start, after)
        if parts["FREQ"] in _STEPS:
            return _stepped(parts, start)
        return takewhile(lambda t: t < _END, iter(_expansion(_written(parts), start)))


def _stepped(parts: Mapping[str, str], start: datetime) -> Iterator[datetime]:
    """The times of a rule by hours or days. Each is looked at here: the library looks on up to the year 9999 for a day
    that never comes, which takes it seconds."""
    step = _STEPS[parts["FREQ"]] * int(parts.get("INTERVAL", 1))
    until = min(until_of(parts["UNTIL"]), _END) if "UNTIL" in parts else _END
    left = int(parts.get("COUNT", MAX_COUNT * MAX_COUNT))
    wanted = {name: set(map(int, _list(parts, name))) for name in _NUMBERS if name in parts}
    weekdays = {DAYS.index(d) for d in _list(parts, "BYDAY")}
    hours = sorted(wanted["BYHOUR"]) if parts["FREQ"] == "DAILY" else [-1]
    minutes, last = sorted(wanted["BYMINUTE"]), start
    at = start.replace(hour=0 if hours != [-1] else start.hour, minute=0)
    while at <= until and at - last <= _AHEAD[parts["FREQ"]] and left > 0:
        if _day_fits(at, wanted, weekdays) and (hours != [-1] or at.hour in wanted.get("BYHOUR", {at.hour})):
            times = [at.replace(hour=at.hour if h < 0 else h, minute=m) for h in hours for m in minutes]
            if "BYSETPOS" in wanted:
                places = {p - 1 if p > 0 else len(times) + p for p in wanted["BYSETPOS"]}
                times = [t for place, t in enumerate(times) if place in places]
            for time in times:
                if start <= time <= until and left > 0:
                    left, last = left - 1, time
                    yield time
        at += step


def _day_fits(day: datetime, wanted: Mapping[str, set[int]], weekdays: set[int]) -> bool:
    """Whether a day is one of those that the lists name."""
    if day.month not in wanted.get("BYMONTH", {day.month}) or (weekdays and day.weekday() not in weekdays):
        return False
    if "BYMONTHDAY" in wanted and not wanted["BYMONTHDAY"] & {
        day.day,
        day.day - monthrange(day.year, day.month)[1] - 1,
    }:
        return False
    if "BYYEARDAY" in wanted:
        place = day.timetuple().tm_yday
        return bool(wanted["BYYEARDAY"] & {place, place - 366 - isleap(day.year)})
    return True


@lru_cache(maxsize=2_000)
def _expansion(rule: str, start: datetime) -> rrule:
    """The times of a rule by weeks, months or years."""
    if "UNTIL=" not in rule and "COUNT=" not in rule:
        rule = f"{rule};UNTIL={_END:%Y%m%dT%H%M%S}"
    try:
        made = rrulestr(rule, dtstart=start)
    except ValueError as error:
        raise RuleError("This rule has no firing at all.") from error
    assert isinstance(made, rrule)
    return made


@lru_cache(maxsize=512)  # few rules are kept, and each is read again for each page that shows it
def read_rule(text: str) -> str:
    """A rule in the one form in which it is kept: parts in a fixed order, capitals, nothing said twice.

    Raises:
        RuleError: with the part that does not fit and what would.
    """
    parts = _parts(text)
    _check(parts)
    return _written(parts)


def check_recurrence(recurrence: Recurrence) -> None:
    """Refuse a recurrence without any firing, or with firings that are too close together.

    Raises:
        RuleError: with what would fit.
    """
    if not FIRST_YEAR <= recurrence.start.year < LAST_YEAR:
        raise RuleError(f"It begins in a year that can be planned with: {FIRST_YEAR} to {LAST_YEAR - 1}.")
    if next(recurrence.times(), None) is None:
        raise RuleError("This rule has no firing at all.")
    gap = smallest_gap(recurrence)
    if gap is not None and gap < LEAST_GAP:
        raise RuleError(f"Two firings are at least {LEAST_GAP // timedelta(minutes=1)} minutes apart.")


def smallest_gap(recurrence: Recurrence) -> timedelta | None:
    """The shortest time between two of the first hundred firings, by local time; None where there is only one."""
    times = recurrence.times()
    first = [t for t, _ in zip(times, range(_LOOKED_AT), strict=False)]
    return min((b - a for a, b in pairwise(first)), default=None)


def _parts(text: str) -> dict[str, str]:
    text = text.strip().upper().removeprefix("RRULE:")
    if not text:
        raise RuleError("A rule says how often: FREQ=DAILY, for one.")
    if len(text) > MAX_TEXT:
        raise RuleError(f"A rule has at most {MAX_TEXT} characters.")
    parts: dict[str, str] = {}
    for piece in filter(None, text.split(";")):
        name, equals, value = (p.strip() for p in piece.partition("="))
        if not equals or not value:
            raise RuleError(f"“{piece[:40]}” is no part of a rule: a name, = and a value, as in INTERVAL=2.")
        if name not in _ORDER:
            raise RuleError(f"{name[:40]} is no part that a rule can have: {', '.join(_ORDER)}.")
        if name in parts:
            raise RuleError(f"{name} is there twice.")
        parts[name] = value
    return parts


def _check(parts: Mapping[str, str]) -> None:
    frequency = parts.get("FREQ", "")
    if frequency not in _FREQUENCIES:
        raise RuleError(f"FREQ is one of {', '.join(_FREQUENCIES)}.")
    for name, most in (("INTERVAL", MAX_INTERVAL), ("COUNT", MAX_COUNT)):
        if name in parts and not (_is_digits(parts[name]) and 1 <= int(parts[name]) <= most):
            raise RuleError(f"{name} is a whole number from 1 to {most}.")
    if "COUNT" in parts and "UNTIL" in parts:
        raise RuleError("A rule ends by COUNT or by UNTIL, not by both.")
    if "UNTIL" in parts:
        until_of(parts["UNTIL"])
    for name, (low, high, from_end) in _NUMBERS.items():
        for value in _list(parts, name):
            bare = value[1:] if value[:1] in "+-" else value
            if not _is_digits(bare) or not low <= int(bare) <= high or (value.startswith("-") and not from_end):
                also = ", or from the end with a minus" if from_end else ""
                raise RuleError(f"{name} takes whole numbers from {low} to {high}{also}; {value[:20]} is none of them.")
    for name, frequencies in _NOT_WITH.items():
        if name in parts and frequency in frequencies:
            raise RuleError(f"{name} does not go with FREQ={frequency}.")
    for value in _list(parts, "BYDAY"):
        ordinal, day = value[:-2], value[-2:]
        if day not in DAYS:
            raise RuleError(f"BYDAY takes {', '.join(DAYS)}, in months and years with a number before: 1MO, -1FR.")
        bare = ordinal[1:] if ordinal[:1] in ("+", "-") else ordinal
        if ordinal and not (_is_digits(bare) and 1 <= int(bare) <= 53):
            raise RuleError(f"BYDAY: {value[:20]} is no day, like MO or 1MO.")
        if ordinal and (frequency not in ("MONTHLY", "YEARLY") or "BYWEEKNO" in parts):
            raise RuleError(f"BYDAY={value} with a number goes with FREQ=MONTHLY or FREQ=YEARLY.")
    if "WKST" in parts and parts["WKST"] not in DAYS:
        raise RuleError(f"WKST is one of {', '.join(DAYS)}.")
    if "BYSETPOS" in parts and not any(n.startswith("BY") and n != "BYSETPOS" for n in parts):
        raise RuleError("BYSETPOS chooses among what another BY part gives; there is none.")
    if "BYSETPOS" in parts:
        most = _most_in_period(parts)
        if max(abs(int(p)) for p in _list(parts, "BYSETPOS")) > most:
            raise RuleError(f"BYSETPOS goes beyond the {most} times that the other parts can give.")


def _most_in_period(parts: Mapping[str, str]) -> int:
    """How many times the other parts give in one hour, day, week, month or year at the very most."""
    in_months = {"HOURLY": 1, "DAILY": 1, "WEEKLY": 1, "MONTHLY": 5, "YEARLY": 53}[parts["FREQ"]]
    days = sum(1 if len(d) > 2 else in_months for d in _list(parts, "BYDAY"))
    months = len(_list(parts, "BYMONTH")) or (12 if parts["FREQ"] == "YEARLY" else 1)
    days = max(days, len(_list(parts, "BYMONTHDAY")) * months, len(_list(parts, "BYYEARDAY")), 1)
    days = 1 if parts["FREQ"] in ("HOURLY", "DAILY") else max(days, 7 * len(_list(parts, "BYWEEKNO")), months)
    hours = 1 if parts["FREQ"] == "HOURLY" else max(1, len(_list(parts, "BYHOUR")))
    return days * hours * max(1, len(_list(parts, "BYMINUTE")))


def until_of(text: str) -> datetime:
    """The last local time of UNTIL; a day is meant with all its hours.

    Raises:
        RuleError: it is none, or one of universal time.
    """
    if text.endswith("Z"):
        raise RuleError("UNTIL is a local time here, like DTSTART: leave the Z off.")
    for form in ("%Y%m%dT%H%M%S", "%Y%m%d"):
        if len(text) != (15 if "T" in form else 8):
            continue
        try:
            found = datetime.strptime(text, form)  # noqa: DTZ007  a local time
        except ValueError:
            break
        if not FIRST_YEAR <= found.year < LAST_YEAR:
            raise RuleError(f"UNTIL lies in a year that can be planned with: {FIRST_YEAR} to {LAST_YEAR - 1}.")
        return found if "T" in form else found.replace(hour=23, minute=59, second=59)
    raise RuleError("UNTIL is a day or a time, like 20270331 or 20270331T053000.")


def parts_of(rule: str) -> dict[str, str]:
    """The parts of a rule that has been read, by name."""
    return dict(p.split("=", 1) for p in rule.split(";")) if rule else {}


def _explicit(rule: str, start: datetime) -> dict[str, str]:
    """The rule with all that it takes from its start written out, so that it says the same with another start."""
    parts = parts_of(rule)
    frequency = parts["FREQ"]
    if "UNTIL" in parts:
        parts["UNTIL"] = f"{until_of(parts['UNTIL']):%Y%m%dT%H%M%S}"
    if frequency != "HOURLY":
        parts.setdefault("BYHOUR", str(start.hour))
    parts.setdefault("BYMINUTE", str(start.minute))
    chooses_days = any(n in parts for n in ("BYDAY", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO"))
    if not chooses_days and frequency == "WEEKLY":
        parts["BYDAY"] = DAYS[start.weekday()]
    if not chooses_days and frequency in ("MONTHLY", "YEARLY"):
        if frequency == "YEARLY":
            parts.setdefault("BYMONTH", str(start.month))
        parts["BYMONTHDAY"] = str(start.day)
    if frequency == "YEARLY" and "BYWEEKNO" in parts and "BYDAY" not in parts:
        parts["BYDAY"] = DAYS[start.weekday()]
    return parts


def _near(parts: Mapping[str, str], start: datetime, after: datetime) -> datetime:
    """A start from which the rule gives the same times after `after`, and few before: whole intervals later, at the
    beginning of a period."""
    every = int(parts.get("INTERVAL", 1))
    frequency = parts["FREQ"]
    lengths = {"HOURLY": timedelta(hours=every), "DAILY": timedelta(days=every), "WEEKLY": timedelta(weeks=every)}
    if frequency in lengths:
        skipped = (after - start) // lengths[frequency] - 1
        return start + skipped * lengths[frequency] if skipped > 0 else start
    months = every * (12 if frequency == "YEARLY" else 1)
    between = (after.year - start.year) * 12 + after.month - start.month
    skipped = between // months - 1
    if skipped <= 0:
        return start
    year, month = divmod(start.year * 12 + start.month - 1 + skipped * months, 12)
    first_month = 0 if frequency == "YEARLY" else month
    return start.replace(year=year, month=first_month + 1, day=1)


def _written(parts: Mapping[str, str]) -> str:
    kept = {**parts}
    if kept.get("INTERVAL") == "1":
        del kept["INTERVAL"]
    return ";".join(f"{name}={kept[name]}" for name in _ORDER if name in kept)


def _list(parts: Mapping[str, str], name: str) -> list[str]:
    return parts[name].split(",") if name in parts else []


def _is_digits(text: str) -> bool:
    return text.isascii() and text.isdigit() and len(text) <= 6
