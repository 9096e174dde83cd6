"""Times as the calendar asks for them: spans that come each year, firings and openings within some days."""

from datetime import UTC, date, datetime, time, timedelta
from itertools import pairwise

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from herald_core.timing.clocks import zone
from herald_core.timing.firings import firings, firings_within
from herald_core.timing.recurrence import Recurrence
from herald_core.timing.windows import Window, carried, open_until, openings, short_openings
from herald_core.timing.yearly import LONGEST_YEARLY, yearly

ZONES = ("Europe/Lisbon", "America/Santiago", "Australia/Adelaide", "Asia/Kolkata", "Africa/Casablanca", "Africa/Cairo")
RULES = (
    "FREQ=DAILY",
    "FREQ=HOURLY;INTERVAL=3",
    "FREQ=WEEKLY;BYDAY=SU,TH",
    "FREQ=MONTHLY;BYDAY=-1SU",
    "FREQ=DAILY;COUNT=40",
)
DAY, HOUR = timedelta(days=1), timedelta(hours=1)
weekdays = st.sets(st.integers(0, 6))
moments = st.datetimes(datetime(2026, 1, 1), datetime(2029, 1, 1)).map(lambda t: t.replace(tzinfo=UTC))  # noqa: DTZ001


def span(start: datetime, end: datetime, after: datetime, before: datetime, at: str = "UTC") -> list[int]:
    """The years in which the times of a span begin."""
    return [a.year for a, _ in yearly(start, end, at, after=after, before=before)]


NEW_YEAR = (datetime(2026, 12, 20, tzinfo=UTC), datetime(2027, 1, 10, tzinfo=UTC))


def test_a_span_comes_again_each_year_and_is_there_while_it_lasts() -> None:
    assert span(*NEW_YEAR, datetime(2026, 1, 1, tzinfo=UTC), datetime(2029, 1, 5, tzinfo=UTC)) == [2026, 2027, 2028]
    assert span(*NEW_YEAR, datetime(2028, 1, 9, 23, tzinfo=UTC), datetime(2028, 2, 1, tzinfo=UTC)) == [2027]
    assert span(*NEW_YEAR, datetime(2028, 1, 10, tzinfo=UTC), datetime(2028, 12, 20, tzinfo=UTC)) == []
    assert span(*NEW_YEAR, datetime(2020, 1, 1, tzinfo=UTC), datetime(2026, 12, 20, tzinfo=UTC)) == []


def test_it_keeps_its_local_hours_and_the_end_of_february() -> None:
    lisbon = zone("Europe/Lisbon")
    start = datetime(2028, 2, 29, 3, tzinfo=lisbon).astimezone(UTC)
    end = datetime(2028, 4, 2, 3, tzinfo=lisbon).astimezone(UTC)
    [(a, b)] = yearly(start, end, "Europe/Lisbon", after=start + 300 * DAY, before=start + 400 * DAY)
    local = (a.astimezone(lisbon), b.astimezone(lisbon))
    assert (local[0].date(), local[0].hour) == (date(2029, 2, 28), 3)
    assert (local[1].date(), local[1].hour) == (date(2029, 4, 2), 3)


@given(moments, st.timedeltas(HOUR, LONGEST_YEARLY), moments, st.timedeltas(HOUR, 800 * DAY), st.sampled_from(ZONES))
def test_no_two_times_of_a_span_overlap_and_none_that_touches_is_left_out(
    start: datetime, lasts: timedelta, after: datetime, length: timedelta, at: str
) -> None:
    before = after + length
    found = list(yearly(start, start + lasts, at, after=after, before=before))
    assert all(a < before and b > after for a, b in found)
    assert all(first[1] < second[0] for first, second in pairwise(found))
    whole = yearly(start, start + lasts, at, after=start, before=before + DAY)
    assert found == [(a, b) for a, b in whole if a < before and b > after]


@settings(max_examples=150)
@given(
    moments,
    st.timedeltas(HOUR, 60 * DAY),
    st.sampled_from(ZONES),
    st.sampled_from(
        (
            "FREQ=DAILY",
            "FREQ=HOURLY;INTERVAL=3",
            "FREQ=WEEKLY;BYDAY=SU,TH",
            "FREQ=MONTHLY;BYDAY=-1SU",
            "FREQ=DAILY;COUNT=40",
        )
    ),
    st.times().map(lambda t: t.replace(minute=t.minute // 15 * 15, second=0, microsecond=0)),
)
def test_firings_of_some_days_are_those_that_are_found_one_by_one(
    start: datetime, length: timedelta, at: str, rule: str, hour: time
) -> None:
    recurrence = Recurrence(start=datetime.combine(date(2026, 1, 1), hour), rule=rule)
    end = start + length
    one_by_one = []
    for firing in firings(recurrence, at, after=start - timedelta(microseconds=1)):
        if firing.at >= end:
            break
        one_by_one.append(firing)
    assert firings_within(recurrence, [at], start=start, end=end)[at] == one_by_one


@pytest.mark.parametrize("at", ZONES)
def test_firings_about_each_clock_change_are_those_that_are_found_one_by_one(at: str) -> None:
    recurrence = Recurrence(start=datetime(2026, 1, 1, 0, 30), rule="FREQ=HOURLY")  # noqa: DTZ001  a local time
    start, end = datetime(2027, 1, 1, tzinfo=UTC), datetime(2028, 1, 1, tzinfo=UTC)
    whole = firings_within(recurrence, [at], start=start, end=end)[at]
    for week in range(52):
        a, b = start + week * 7 * DAY, start + (week + 1) * 7 * DAY
        assert firings_within(recurrence, [at], start=a, end=b)[at] == [f for f in whole if a <= f.at < b]


def test_no_time_and_no_zone_are_no_firing() -> None:
    recurrence = Recurrence(start=datetime(2026, 1, 1, 5), rule="FREQ=DAILY")  # noqa: DTZ001  a local time
    now = datetime(2027, 1, 1, tzinfo=UTC)
    assert firings_within(recurrence, [], start=now, end=now + DAY) == {}
    assert firings_within(recurrence, ["UTC"], start=now, end=now) == {"UTC": []}


@settings(max_examples=150)
@given(
    moments, st.timedeltas(HOUR, 20 * DAY), st.sampled_from(ZONES), st.times(), st.times(), st.sets(st.integers(0, 6))
)
def test_openings_of_some_days_hold_exactly_the_moments_at_which_it_is_open(
    start: datetime, length: timedelta, at: str, opens: time, closes: time, days: set[int]
) -> None:
    window = Window(start=opens, end=closes, days=frozenset(days))
    end = start + length
    found = openings(window, at, start=start, end=end)
    assert all(a < b and a < end and b > start for a, b in found)
    for step in range(40):
        moment = start + step * (length / 40)
        inside = any(a <= moment < b for a, b in found)
        assert inside == (open_until(window, at, moment) is not None)


def test_no_window_is_all_of_the_time() -> None:
    now = datetime(2027, 1, 1, tzinfo=UTC)
    assert openings(None, "UTC", start=now, end=now + DAY) == [(now, now + DAY)]
    assert openings(None, "UTC", start=now, end=now) == []


def test_days_on_which_a_clock_change_leaves_too_little() -> None:
    window = Window(start=time(0), end=time(1, 30))
    whole_year = {"start": datetime(2027, 1, 1, tzinfo=UTC), "end": datetime(2028, 1, 1, tzinfo=UTC)}
    assert short_openings(window, "America/Santiago", timedelta(minutes=40), **whole_year) == [
        (date(2027, 9, 5), timedelta(minutes=30))
    ]
    assert short_openings(window, "America/Santiago", timedelta(minutes=30), **whole_year) == []
    gone = Window(start=time(0), end=time(1))
    [(_, left)] = short_openings(gone, "America/Santiago", timedelta(minutes=10), **whole_year)
    assert left == timedelta(0)


def test_what_fits_into_spans_fits_into_each_by_itself() -> None:
    now = datetime(2027, 1, 1, tzinfo=UTC)
    spans = [(now, now + timedelta(minutes=25)), (now + DAY, now + DAY + timedelta(minutes=39))]
    assert carried(spans, timedelta(minutes=10), 2) == 2 * (2 + 3)
    assert carried([(now, now - HOUR)], timedelta(minutes=10), 2) == 0
