"""Windows, firings and spread, across clock changes of both hemispheres and half-hour zones."""

from collections.abc import Iterator
from datetime import UTC, datetime, time, timedelta
from itertools import islice, pairwise

from hypothesis import given
from hypothesis import strategies as st

from herald_core.timing.clocks import Shift, instant, is_zone, zone, zone_names
from herald_core.timing.firings import Firing, firings, spread_seconds
from herald_core.timing.recurrence import Recurrence
from herald_core.timing.windows import NEVER, Window, next_begin, next_opening, open_until, opening_at

ZONES = ["Australia/Adelaide", "Asia/Kolkata", "Africa/Nairobi", "Europe/Lisbon", "America/Santiago", "UTC"]
NIGHT = Window(start=time(1), end=time(4, 30))
LATE = Window(start=time(22), end=time(4))


def daily(at: time, zone_name: str, *, after: datetime, rule: str = "FREQ=DAILY") -> Iterator[Firing]:
    start = datetime.combine(after.date() - timedelta(days=2), at.replace(second=0, microsecond=0))
    return firings(Recurrence(start=start, rule=rule), zone_name, after=after)


def utc(*parts: int) -> datetime:
    return datetime(*parts, tzinfo=UTC)  # type: ignore[arg-type, misc]


def test_a_window_is_open_by_the_devices_own_clock() -> None:
    now = utc(2026, 11, 23, 14, 45)  # 01:15 in Adelaide, 20:15 in Kolkata
    assert open_until(NIGHT, "Australia/Adelaide", now) == utc(2026, 11, 23, 18, 0)
    assert open_until(NIGHT, "Asia/Kolkata", now) is None
    assert next_opening(NIGHT, "Asia/Kolkata", now) == utc(2026, 11, 23, 19, 30)


def test_a_window_across_midnight_belongs_to_the_day_on_which_it_opens() -> None:
    mondays = Window(start=time(22), end=time(4), days=frozenset({0}))
    assert open_until(mondays, "UTC", utc(2026, 11, 24, 3, 59)) == utc(2026, 11, 24, 4, 0)  # Tuesday morning
    assert open_until(mondays, "UTC", utc(2026, 11, 24, 22, 30)) is None


def test_the_end_is_not_in() -> None:
    assert open_until(NIGHT, "UTC", utc(2026, 11, 23, 4, 30)) is None
    assert open_until(NIGHT, "UTC", utc(2026, 11, 23, 1, 0)) is not None


def test_no_window_is_always_open() -> None:
    assert open_until(None, "UTC", utc(2026, 1, 1)) is not None
    assert next_opening(None, "UTC", utc(2026, 1, 1)) == utc(2026, 1, 1)


def test_a_skipped_time_is_the_first_moment_after() -> None:
    # Lisbon goes from 01:00 to 02:00 on 29 March 2026
    moment, shift = instant(datetime(2026, 3, 29, 1, 30), "Europe/Lisbon")  # noqa: DTZ001  a local time
    assert (moment, shift) == (utc(2026, 3, 29, 1, 0), Shift.SKIPPED)


def test_a_time_that_happens_twice_is_the_first() -> None:
    # Santiago goes from 24:00 back to 23:00 on 4 April 2026
    moment, shift = instant(datetime(2026, 4, 4, 23, 30), "America/Santiago")  # noqa: DTZ001  a local time
    assert (moment, shift) == (utc(2026, 4, 5, 2, 30), Shift.TWICE)


@given(st.sampled_from(ZONES), st.datetimes(min_value=datetime(2025, 1, 1), max_value=datetime(2028, 1, 1)))  # noqa: DTZ001
def test_an_instant_shows_the_local_time_unless_it_was_skipped(name: str, local: datetime) -> None:
    local = local.replace(microsecond=0)
    moment, shift = instant(local, name)
    shown = moment.astimezone(zone(name)).replace(tzinfo=None)
    if shift is Shift.SKIPPED:
        before = (moment - timedelta(seconds=1)).astimezone(zone(name))
        assert before.utcoffset() != moment.astimezone(zone(name)).utcoffset()
        assert shown > local
    else:
        assert shown == local


@given(st.sampled_from(ZONES), st.sampled_from([NIGHT, LATE]), st.datetimes(datetime(2026, 1, 1), datetime(2027, 1, 1)))  # noqa: DTZ001
def test_the_next_opening_is_open_and_nothing_before_it_is(name: str, window: Window, naive: datetime) -> None:
    now = naive.replace(tzinfo=UTC)
    opening = next_opening(window, name, now)
    assert open_until(window, name, opening) is not None
    assert now <= opening <= now + timedelta(hours=26)
    if opening > now:
        assert open_until(window, name, opening - timedelta(seconds=1)) is None


def test_daily_firings_keep_the_local_time_over_a_clock_change() -> None:
    found = list(islice(daily(time(5, 30), "Australia/Adelaide", after=utc(2026, 10, 2)), 4))
    local = [f.at.astimezone(zone("Australia/Adelaide")).strftime("%d %H:%M") for f in found]
    assert local == ["03 05:30", "04 05:30", "05 05:30", "06 05:30"]
    assert found[1].at - found[0].at == timedelta(hours=23)  # clocks go forward on 4 October


def test_daily_firings_end_on_their_last_day() -> None:
    found = list(daily(time(5), "UTC", after=utc(2026, 11, 23), rule="FREQ=DAILY;UNTIL=20261124"))
    assert [f.local.day for f in found] == [23, 24]


@given(st.sampled_from(ZONES), st.times())
def test_each_day_fires_exactly_once(name: str, at: time) -> None:
    found = list(islice(daily(at, name, after=utc(2026, 1, 1)), 400))
    days = [f.local.date() for f in found]
    assert days == sorted(set(days))
    assert all(b - a == timedelta(days=1) for a, b in pairwise(days))
    assert all(b.at > a.at for a, b in pairwise(found))


def test_spread_is_stable_and_level() -> None:
    spread = timedelta(minutes=20)
    offsets = [spread_seconds("schedule-1", f"LG-{i}", spread) for i in range(4000)]
    assert offsets == [spread_seconds("schedule-1", f"LG-{i}", spread) for i in range(4000)]
    assert all(0 <= o < 1200 for o in offsets)
    per_minute = [sum(1 for o in offsets if o // 60 == m) for m in range(20)]
    assert min(per_minute) > 130 and max(per_minute) < 270
    assert spread_seconds("schedule-1", "LG-1", timedelta(0)) == 0


def test_a_window_without_days_never_opens() -> None:
    assert next_opening(Window(start=time(1), end=time(2), days=frozenset()), "UTC", utc(2026, 1, 1)) == NEVER


def test_a_weekly_window_in_an_hour_that_is_skipped_opens_the_week_after() -> None:
    # Lisbon has no 01:00 to 02:00 on Sunday 29 March 2026
    sundays = Window(start=time(1), end=time(2), days=frozenset({6}))
    for now in (utc(2026, 3, 22, 12), utc(2026, 3, 29, 0, 30), utc(2026, 3, 29, 1, 0), utc(2026, 3, 29, 12)):
        assert next_opening(sundays, "Europe/Lisbon", now) == utc(2026, 4, 5, 0, 0)


def test_work_that_would_end_as_the_window_closes_waits_for_the_next() -> None:
    now = utc(2026, 11, 23, 4, 0)
    assert next_begin(NIGHT, "UTC", now, timedelta(minutes=29)) == now
    assert next_begin(NIGHT, "UTC", now, timedelta(minutes=30)) == utc(2026, 11, 24, 1, 0)


windows = st.builds(
    Window,
    start=st.times(),
    end=st.times(),
    days=st.frozensets(st.integers(0, 6)),
    clock=st.sampled_from(["device", "Australia/Lord_Howe", "Pacific/Apia"]),
)


@given(
    st.sampled_from(sorted(zone_names())),
    windows,
    st.datetimes(datetime(2000, 1, 1), datetime(2100, 1, 1)),  # noqa: DTZ001
    st.timedeltas(timedelta(0), timedelta(hours=30)),
)
def test_windows_of_any_kind_have_an_answer_at_any_moment(
    name: str, window: Window, naive: datetime, needed: timedelta
) -> None:
    now = naive.replace(tzinfo=UTC)
    opening = next_opening(window, name, now)
    assert opening >= now and (opening == NEVER) == (not window.days)
    assert next_begin(window, name, now, needed) >= now
    if opening != NEVER:
        found = opening_at(window, name, opening)
        assert found is not None and found[0] <= opening < found[1]


@given(st.sampled_from(sorted(zone_names())), st.times(), st.datetimes(datetime(2000, 1, 5), datetime(2099, 12, 31)))  # noqa: DTZ001
def test_firings_come_in_order_and_end_with_the_dates_that_can_be_planned(name: str, at: time, naive: datetime) -> None:
    after = naive.replace(tzinfo=UTC)
    moments = [f.at for f in islice(daily(at, name, after=after), 5)]
    assert moments == sorted(moments) and all(m > after for m in moments)


def test_zones_are_those_of_the_database_and_not_of_the_machine() -> None:
    assert is_zone("Europe/Lisbon") and is_zone("UTC")
    assert not any(map(is_zone, ("localtime", "posixrules", "Factory", "Nowhere/Land", "", "/etc/localtime")))
