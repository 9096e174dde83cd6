"""Recurrence rules: against two other readings, at clock changes, and what is refused."""

import random
from datetime import UTC, datetime, timedelta
from itertools import islice
from typing import Any

import pytest

from herald_core.timing.clocks import Shift, zone
from herald_core.timing.firings import firings
from herald_core.timing.recurrence import Recurrence, RuleError, check_recurrence, read_rule, smallest_gap
from herald_core.timing.recurrence_words import end_words, recurrence_words
from tests.recurrence_rules import ZONES, disagreement, make_recurrence

#: `./herald test recurrence` tries ten thousand of others
SEEDS = range(300)


def local(*parts: int) -> datetime:
    return datetime(*parts)  # type: ignore[arg-type, misc]  # noqa: DTZ001


def utc(*parts: int) -> datetime:
    return datetime(*parts, tzinfo=UTC)  # type: ignore[arg-type, misc]


START = local(2026, 11, 30, 5, 30)


def repeating(rule: str, start: datetime = START, **fields: Any) -> Recurrence:
    return Recurrence(start=start, rule=read_rule(rule), **fields)


@pytest.mark.parametrize("part", range(6))
def test_every_reading_of_a_rule_agrees(part: int) -> None:
    for seed in SEEDS[part::6]:
        rng = random.Random(seed)
        assert disagreement(make_recurrence(rng), rng.choice(ZONES)) == "", seed


def test_a_skipped_time_runs_at_the_first_moment_after_and_once() -> None:
    # Lisbon goes from 01:00 to 02:00 on 29 March 2026
    daily = list(islice(firings(repeating("FREQ=DAILY", local(2026, 3, 28, 1, 30)), "Europe/Lisbon",
                                after=utc(2026, 3, 28)), 3))  # fmt: skip
    assert [f.at for f in daily] == [utc(2026, 3, 28, 1, 30), utc(2026, 3, 29, 1), utc(2026, 3, 30, 0, 30)]
    assert [f.shift for f in daily] == [Shift.NONE, Shift.SKIPPED, Shift.NONE]
    hourly = list(islice(firings(repeating("FREQ=HOURLY", local(2026, 3, 29)), "Europe/Lisbon",
                                 after=utc(2026, 3, 28, 23, 59)), 4))  # fmt: skip
    assert [f.at for f in hourly] == [utc(2026, 3, 29, h) for h in range(4)]  # 01:00 and 02:00 are one moment


def test_a_time_that_happens_twice_runs_once_the_first_time() -> None:
    # New York goes from 02:00 back to 01:00 on 1 November 2026
    found = list(islice(firings(repeating("FREQ=DAILY", local(2026, 10, 31, 1, 30)), "America/New_York",
                                after=utc(2026, 10, 31)), 3))  # fmt: skip
    assert [f.at for f in found] == [utc(2026, 10, 31, 5, 30), utc(2026, 11, 1, 5, 30), utc(2026, 11, 2, 6, 30)]
    assert found[1].shift is Shift.TWICE


@pytest.mark.parametrize(
    ("zone_name", "day", "time", "shift"),
    [
        ("Australia/Lord_Howe", (2026, 10, 4), (2, 15), Shift.SKIPPED),  # by half an hour
        ("Australia/Adelaide", (2026, 10, 4), (2, 30), Shift.SKIPPED),
        ("America/Santiago", (2026, 9, 6), (0, 30), Shift.SKIPPED),  # a day that begins at 01:00
        ("Africa/Casablanca", (2026, 2, 15), (2, 30), Shift.TWICE),  # for Ramadan
        ("Europe/Istanbul", (2015, 11, 8), (3, 30), Shift.TWICE),  # before it stopped changing
        ("Europe/Istanbul", (2026, 10, 25), (3, 30), Shift.NONE),  # after
        ("Pacific/Apia", (2011, 12, 30), (5, 30), Shift.SKIPPED),  # a whole day
    ],
)
def test_what_clocks_do_to_a_firing(zone_name: str, day: tuple[int, ...], time: tuple[int, ...], shift: Shift) -> None:
    recurrence = repeating("FREQ=DAILY", local(*day, *time) - timedelta(days=3))
    begin = recurrence.start.replace(tzinfo=zone(zone_name)) - timedelta(minutes=1)
    found = {f.local: f for f in islice(firings(recurrence, zone_name, after=begin.astimezone(UTC)), 6)}
    if zone_name == "Pacific/Apia":  # the day that never was runs at midnight of the day after
        assert found[local(*day, *time)].at == utc(2011, 12, 30, 10)
    assert found[local(*day, *time)].shift is shift


def test_month_ends_and_leap_days() -> None:
    assert [t.day for t in islice(repeating("FREQ=MONTHLY", local(2026, 1, 31)).times(), 4)] == [31] * 4
    ends = islice(repeating("FREQ=MONTHLY;BYMONTHDAY=-1", local(2027, 12, 1)).times(), 4)
    assert [(t.month, t.day) for t in ends] == [(12, 31), (1, 31), (2, 29), (3, 31)]
    assert [t.year for t in islice(repeating("FREQ=YEARLY", local(2024, 2, 29)).times(), 3)] == [2024, 2028, 2032]


def test_a_rule_that_is_begun_late_loses_nothing_of_its_first_period() -> None:
    monthly = repeating("FREQ=MONTHLY;BYMONTHDAY=1;BYHOUR=3,9", local(2026, 1, 10, 5))
    assert next(monthly.times(local(2027, 3, 1, 2))) == local(2027, 3, 1, 3)
    yearly = repeating("FREQ=YEARLY;BYMONTH=1;BYMONTHDAY=1;BYHOUR=0", local(2020, 6, 10, 5))
    assert next(yearly.times(local(2026, 12, 31, 23))) == local(2027, 1, 1, 0)
    weekly = repeating("FREQ=WEEKLY;BYDAY=MO;BYHOUR=1", local(2026, 1, 7, 5))
    assert next(weekly.times(local(2027, 3, 1, 0))) == local(2027, 3, 1, 1)


def test_what_is_excluded_is_left_out_and_counts_all_the_same() -> None:
    start = local(2026, 11, 30, 5, 30)
    recurrence = repeating("FREQ=DAILY;COUNT=3", start, excluded=frozenset({start + timedelta(days=1)}))
    assert list(recurrence.times()) == [start, start + timedelta(days=2)]


def test_once_is_a_recurrence_without_a_rule() -> None:
    once = Recurrence(start=local(2026, 11, 30, 5, 30))
    assert [f.at for f in firings(once, "Asia/Kolkata", after=utc(2026, 11, 1))] == [utc(2026, 11, 30)]
    assert list(firings(once, "Asia/Kolkata", after=utc(2026, 11, 30))) == []
    assert smallest_gap(once) is None


def test_a_rule_that_never_matches_ends_soon() -> None:
    never = ("HOURLY;BYMONTH=2;BYYEARDAY=300", "DAILY;BYMONTH=2;BYMONTHDAY=30", "HOURLY;INTERVAL=2;BYHOUR=4",
             "YEARLY;BYMONTH=2;BYMONTHDAY=30", "HOURLY;INTERVAL=5;BYMONTH=2;BYMONTHDAY=30")  # fmt: skip
    for rule in (f"FREQ={n}" for n in never):
        with pytest.raises(RuleError, match="no firing at all"):
            check_recurrence(repeating(rule))


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "A rule says how often"),
        ("FREQ=MINUTELY", "FREQ is one of HOURLY, DAILY"),
        ("INTERVAL=2", "FREQ is one of"),
        ("FREQ=DAILY;FREQ=DAILY", "FREQ is there twice"),
        ("FREQ=DAILY;HOW=NOW", "HOW is no part"),
        ("FREQ=DAILY;INTERVAL", "“INTERVAL” is no part of a rule"),
        ("FREQ=DAILY;INTERVAL=0", "INTERVAL is a whole number from 1"),
        ("FREQ=DAILY;INTERVAL=١", "INTERVAL is a whole number from 1"),
        ("FREQ=DAILY;COUNT=99999", "COUNT is a whole number from 1 to 10000"),
        ("FREQ=DAILY;COUNT=2;UNTIL=20300101", "not by both"),
        ("FREQ=DAILY;UNTIL=20300101T000000Z", "leave the Z off"),
        ("FREQ=DAILY;UNTIL=20300231", "UNTIL is a day or a time"),
        ("FREQ=DAILY;UNTIL=29990101", "can be planned with"),
        ("FREQ=DAILY;BYHOUR=24", "BYHOUR takes whole numbers from 0 to 23; 24 is none"),
        ("FREQ=MONTHLY;BYMONTHDAY=0", "from the end with a minus"),
        ("FREQ=YEARLY;BYMONTH=-1", "BYMONTH takes whole numbers"),
        ("FREQ=WEEKLY;BYDAY=1MO", "goes with FREQ=MONTHLY"),
        ("FREQ=WEEKLY;BYDAY=XX", "BYDAY takes MO"),
        ("FREQ=MONTHLY;BYDAY=0MO", "is no day"),
        ("FREQ=WEEKLY;BYMONTHDAY=1", "does not go with FREQ=WEEKLY"),
        ("FREQ=DAILY;BYSETPOS=1", "there is none"),
        ("FREQ=WEEKLY;BYDAY=MO;BYSETPOS=2", "beyond the 1 times"),
        ("FREQ=MONTHLY;BYDAY=MO;BYSETPOS=-6", "beyond the 5 times"),
        ("FREQ=WEEKLY;WKST=1", "WKST is one of"),
        ("FREQ=DAILY;BYDAY=" + "MO," * 300, "at most 500 characters"),
    ],
)
def test_rules_that_do_not_fit_are_refused_in_words(text: str, words: str) -> None:
    with pytest.raises(RuleError, match=words):
        read_rule(text)


def test_firings_keep_their_distance() -> None:
    with pytest.raises(RuleError, match="15 minutes apart"):
        check_recurrence(repeating("FREQ=HOURLY;BYMINUTE=0,5"))
    check_recurrence(repeating("FREQ=HOURLY;BYMINUTE=0,30"))


def test_a_rule_is_kept_in_one_form() -> None:
    assert read_rule(" rrule:byday=mo,th;interval=1;freq=weekly ") == "FREQ=WEEKLY;BYDAY=MO,TH"


@pytest.mark.parametrize(
    ("rule", "words", "end"),
    [
        ("FREQ=DAILY", "every day at 05:30", ""),
        ("FREQ=DAILY;INTERVAL=3;COUNT=10", "every 3 days at 05:30", "10 times"),
        ("FREQ=DAILY;BYHOUR=14,2;BYMONTH=12,1", "every day in December and January at 02:30 and 14:30", ""),
        ("FREQ=WEEKLY;BYDAY=TH,MO;UNTIL=20270331", "every Monday and Thursday at 05:30", "until 31 Mar 2027"),
        ("FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", "on working days at 05:30", ""),
        ("FREQ=WEEKLY;INTERVAL=2", "every 2 weeks on Monday at 05:30", ""),
        ("FREQ=MONTHLY;BYDAY=1MO", "on the first Monday of every month at 05:30", ""),
        ("FREQ=MONTHLY;BYDAY=-1FR;BYMONTH=3", "on the last Friday of March at 05:30", ""),
        ("FREQ=MONTHLY;INTERVAL=2;BYMONTHDAY=1,-1", "on day 1 and the last day of every 2 months at 05:30", ""),
        ("FREQ=HOURLY;INTERVAL=6", "every 6 hours from 05:30", ""),
        ("FREQ=HOURLY", "every hour at minute 30", ""),
        ("FREQ=YEARLY;UNTIL=20300101T120000", "every year on 30 November at 05:30", "until 1 Jan 2030 12:00"),
        ("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", "every year on 29 February at 05:30", ""),
        ("FREQ=MONTHLY;BYDAY=MO,TU;BYSETPOS=1;COUNT=1", "by the rule FREQ=MONTHLY;BYDAY=MO,TU;BYSETPOS=1 at 05:30",
         "once"),
    ],
)  # fmt: skip
def test_a_rule_in_words(rule: str, words: str, end: str) -> None:
    recurrence = repeating(rule)
    assert (recurrence_words(recurrence), end_words(recurrence)) == (words, end)


def test_once_in_words() -> None:
    assert recurrence_words(Recurrence(start=local(2026, 12, 1, 5))) == "on 1 Dec 2026 at 05:00"
