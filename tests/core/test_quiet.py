"""When somebody wants to be written to."""

from datetime import UTC, datetime, time, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from herald_core.timing.quiet import MailWhen, Wishes, mail_due, next_at

NIGHT = Wishes(zone="Europe/Lisbon", quiet_from=time(22), quiet_until=time(7))


def lisbon(*parts: int) -> datetime:
    return datetime(*parts, tzinfo=ZoneInfo("Europe/Lisbon"))  # type: ignore[arg-type, misc]


@pytest.mark.parametrize(
    ("now", "due"),
    [
        (lisbon(2026, 11, 23, 21, 59), lisbon(2026, 11, 23, 21, 59)),
        (lisbon(2026, 11, 23, 22, 0), lisbon(2026, 11, 24, 7, 0)),
        (lisbon(2026, 11, 24, 3, 0), lisbon(2026, 11, 24, 7, 0)),
        (lisbon(2026, 11, 24, 7, 0), lisbon(2026, 11, 24, 7, 0)),
        # the clock goes back in this night, which is an hour longer
        (lisbon(2026, 10, 24, 23, 0), lisbon(2026, 10, 25, 7, 0)),
    ],
)
def test_quiet_hours_over_midnight_hold_mail_back_until_they_end(now: datetime, due: datetime) -> None:
    assert mail_due(now, NIGHT, urgent=False) == due
    assert mail_due(now, NIGHT, urgent=True) == now


def test_quiet_hours_within_a_day_and_hours_that_are_none() -> None:
    noon = Wishes(zone="UTC", quiet_from=time(12), quiet_until=time(13))
    now = datetime(2026, 11, 23, 12, 30, tzinfo=UTC)
    assert mail_due(now, noon, urgent=False) == now.replace(hour=13, minute=0)
    for never in (Wishes(), Wishes(quiet_from=time(12), quiet_until=time(12)), Wishes(quiet_from=time(12))):
        assert mail_due(now, never, urgent=False) == now


def test_a_daily_mail_waits_for_its_hour_and_no_mail_is_none_unless_it_is_urgent() -> None:
    now = datetime(2026, 11, 23, 8, tzinfo=UTC)
    daily = Wishes(when=MailWhen.DAILY)
    assert mail_due(now, daily, urgent=False) == now + timedelta(days=1)
    assert mail_due(now - timedelta(seconds=1), daily, urgent=False) == now
    never = Wishes(when=MailWhen.NEVER)
    assert mail_due(now, never, urgent=False) is None and mail_due(now, never, urgent=True) == now


@given(
    now=st.integers(0, 3 * 366 * 86400).map(lambda s: datetime(2025, 1, 1, tzinfo=UTC) + timedelta(seconds=s)),
    at=st.times().map(lambda t: t.replace(microsecond=0)),
    zone=st.sampled_from(["Europe/Lisbon", "Asia/Kolkata", "America/St_Johns", "Australia/Lord_Howe"]),
)
def test_the_next_time_of_day_is_ahead_within_a_day_and_two_hours(now: datetime, at: time, zone: str) -> None:
    assert timedelta(0) < next_at(now, at, zone) - now <= timedelta(hours=26)


@given(
    now=st.integers(0, 3 * 366 * 86400).map(lambda s: datetime(2025, 1, 1, tzinfo=UTC) + timedelta(seconds=s)),
    at=st.times().map(lambda t: t.replace(microsecond=0)),
    zone=st.sampled_from(["Europe/Lisbon", "Asia/Kolkata", "Australia/Lord_Howe"]),  # none jumps over midnight
    days=st.sets(st.integers(0, 6), min_size=1),
)
def test_the_next_time_on_some_days_of_the_week_is_the_first_on_one_of_them(
    now: datetime, at: time, zone: str, days: set[int]
) -> None:
    found = next_at(now, at, zone, days=days)
    each = [now]
    for _ in range(8):  # that time of every day, until a day of the week comes again
        each.append(next_at(each[-1], at, zone))
    assert next(m for m in each[1:] if m.astimezone(ZoneInfo(zone)).weekday() in days) == found
