"""Spread: places are level and stay, and whose turn has come agrees with when it comes."""

from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from herald_core.timing.spread import is_due_at, share_due, spread_position_of

BEGINS = datetime(2026, 11, 23, 1, tzinfo=UTC)
spans = st.timedeltas(min_value=timedelta(0), max_value=timedelta(hours=9))


def test_places_stay_and_are_level() -> None:
    places = [spread_position_of(f"7/{device}") for device in range(4000)]
    assert places == [spread_position_of(f"7/{device}") for device in range(4000)]
    assert all(0 <= p < 1 for p in places)
    tenths = [sum(t / 10 <= p < (t + 1) / 10 for p in places) for t in range(10)]
    assert min(tenths) > 330 and max(tenths) < 470


@given(place=st.floats(0, 1, exclude_max=True), spread=spans, hours=st.none() | spans, passed=spans)
def test_whose_turn_has_come_agrees_with_when_it_comes(
    place: float, spread: timedelta, hours: timedelta | None, passed: timedelta
) -> None:
    latest = None if hours is None else BEGINS + hours
    turn = is_due_at(place, spread, begins=BEGINS, latest=latest)
    assert BEGINS <= turn <= BEGINS + spread
    if latest is not None:
        assert turn - BEGINS <= (latest - BEGINS) / 2 + timedelta(microseconds=1)
    now = BEGINS + passed
    due = share_due(spread, begins=BEGINS, latest=latest, now=now)
    if abs(turn - now) > timedelta(milliseconds=1):
        assert (place <= due) == (turn <= now)


def test_nothing_is_due_before_it_begins_and_all_is_where_nothing_is_spread() -> None:
    before = BEGINS - timedelta(minutes=1)
    assert share_due(timedelta(hours=1), begins=BEGINS, latest=None, now=before) == 0.0
    assert share_due(timedelta(0), begins=BEGINS, latest=None, now=BEGINS) == 1.0
    assert share_due(timedelta(hours=1), begins=BEGINS, latest=BEGINS, now=BEGINS) == 1.0
