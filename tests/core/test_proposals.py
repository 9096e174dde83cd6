"""Hours that are proposed: in time, the gentlest, hardly later than the best, and true when they are simulated."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from herald_core.forecast.engine import QuantileBand
from herald_core.proposals import NIGHT, AllowedHours, Choice, HoursPlan, is_in_time, plans_within, suggest
from tests.suggested_hours import made_up, wrong_with

HOUR, DAY = 3600.0, 86_400.0
allowed = st.builds(AllowedHours, st.integers(0, 23), st.integers(2, 24))


def work(plan: HoursPlan, hours_of_work: float) -> QuantileBand:
    """So many hours of work done in the hours of a plan, night after night; a spread costs a little of each night."""
    each = plan.length - plan.spread_minutes / 60
    nights = hours_of_work / each
    median = nights * DAY
    return QuantileBand(low=0.9 * median, median=median, high=1.1 * median)


def test_the_gentlest_that_is_in_time_comes_first_and_what_is_gentler_is_too_late() -> None:
    found = suggest(AllowedHours(20, 12), 10, 5 * DAY, lambda plan: work(plan, 15))
    gentlest = found.proposals[0]
    assert gentlest.choice is Choice.GENTLEST
    # four hours, all of them of the night, and the spread that is still in time
    assert (gentlest.plan.start, gentlest.plan.length, gentlest.plan.spread_minutes) == (22, 4, 15)
    assert found.gentler is not None
    assert found.gentler[0] == HoursPlan(22, 4, 60) or found.gentler[0].gentleness < gentlest.plan.gentleness
    assert not is_in_time(found.gentler[1], 5 * DAY)
    assert [p.choice for p in found.proposals] == [Choice.GENTLEST, Choice.BETWEEN, Choice.SOONEST]
    assert found.proposals[-1].plan == HoursPlan(20, 12, 0)


def test_no_hours_are_in_time_and_the_nearest_is_named() -> None:
    found = suggest(NIGHT, 10, DAY, lambda plan: work(plan, 80))
    assert (found.proposals, found.gentler) == ([], None)
    assert found.nearest is not None
    assert found.nearest[0] == HoursPlan(22, 8, 0)


def test_an_install_that_fits_into_no_hours_has_no_plan() -> None:
    found = suggest(AllowedHours(1, 2), 150, 9 * DAY, lambda plan: work(plan, 1))
    assert (found.proposals, found.nearest, found.tried) == ([], None, 0)


def test_a_plan_that_is_hardly_sooner_is_no_choice() -> None:
    found = suggest(NIGHT, 10, 9 * DAY, lambda plan: QuantileBand(low=1.0, median=DAY, high=DAY))
    assert [(p.choice, p.plan) for p in found.proposals] == [(Choice.GENTLEST, HoursPlan(22, 2, 60))]


@pytest.mark.parametrize(("sooner", "choices"), [(0.95, 1), (0.85, 2)])
def test_a_plan_is_a_choice_only_if_it_is_a_tenth_sooner(sooner: float, choices: int) -> None:
    widest = HoursPlan(22, 8, 0)

    def end_of(plan: HoursPlan) -> QuantileBand:
        median = sooner * DAY if plan == widest else DAY
        return QuantileBand(low=median, median=median, high=median)

    assert len(suggest(NIGHT, 10, 9 * DAY, end_of).proposals) == choices


def test_going_before_others_is_proposed_where_nothing_behind_them_is_in_time() -> None:
    """Behind others two days pass before any work can be done."""

    def end_of(plan: HoursPlan) -> QuantileBand:
        behind, own = 0 if plan.goes_first else 2 * DAY, work(plan, 10)
        return QuantileBand(low=own.low + behind, median=own.median + behind, high=own.high + behind)

    assert not suggest(NIGHT, 10, 2 * DAY, end_of).proposals
    first = suggest(NIGHT, 10, 2 * DAY, end_of, may_go_first=True)
    assert first.proposals
    assert all(p.plan.goes_first for p in first.proposals)
    # with more time the gentlest lets the others go first; going before them is much sooner, and offered
    both = suggest(NIGHT, 10, 9 * DAY, end_of, may_go_first=True)
    assert (both.proposals[0].plan.goes_first, both.proposals[-1].plan.goes_first) == (False, True)
    assert both.tried == 2 * suggest(NIGHT, 10, 9 * DAY, end_of).tried


@pytest.mark.parametrize(("sooner", "goes_first"), [(0.05, False), (0.4, True)])
def test_going_before_others_is_no_choice_where_it_is_hardly_sooner(sooner: float, goes_first: bool) -> None:
    def end_of(plan: HoursPlan) -> QuantileBand:
        own = work(plan, 20)
        factor = 1 - sooner if plan.goes_first else 1.0
        return QuantileBand(low=factor * own.low, median=factor * own.median, high=factor * own.high)

    found = suggest(NIGHT, 10, 20 * DAY, end_of, may_go_first=True)
    assert any(p.plan.goes_first for p in found.proposals) is goes_first


@given(allowed, st.floats(1, 200))
def test_plans_lie_within_what_is_allowed(hours: AllowedHours, minutes: float) -> None:
    inside = {(hours.start + h) % 24 for h in range(hours.length)}
    found = list(plans_within(hours, minutes))
    assert len(set(found)) == len(found) <= 200
    for plan in found:
        assert {(plan.start + h) % 24 for h in range(plan.length)} <= inside
        assert plan.spread_minutes + minutes < 60 * plan.length
        assert (plan.window is None) == (plan.length == 24)
    if 60 * hours.length > minutes:
        assert any(p.length == hours.length for p in found)


@given(allowed, st.floats(1, 200), st.floats(0.5, 30), st.floats(0, 5), st.booleans())
def test_whatever_is_proposed_is_in_time_and_the_best_of_it_hardly_later_than_the_best_of_all(
    hours: AllowedHours, size: float, days: float, waits: float, may_go_first: bool
) -> None:
    """Behind others it waits for so many days."""
    deadline = days * DAY

    def end_of(plan: HoursPlan) -> QuantileBand:
        own, behind = work(plan, size), 0 if plan.goes_first else waits * DAY
        return QuantileBand(low=own.low + behind, median=own.median + behind, high=own.high + behind)

    found = suggest(hours, 10, deadline, end_of, may_go_first=may_go_first)
    every = [(p, end_of(p)) for p in plans_within(hours, 10, may_go_first=may_go_first)]
    in_time = [(p, end) for p, end in every if is_in_time(end, deadline)]
    assert bool(found.proposals) == bool(in_time)
    assert all(is_in_time(p.end, deadline) for p in found.proposals)
    if in_time:
        best = min(end.median for _, end in in_time)
        assert min(p.end.median for p in found.proposals) <= best / 0.9 + 1e-6
        assert found.proposals[0].plan.gentleness == min(p.gentleness for p, _ in in_time)
        medians = [p.end.median for p in found.proposals]
        assert medians == sorted(medians, reverse=True)
        assert len(found.proposals) <= 3


@pytest.mark.parametrize("seed", range(3))
def test_what_is_proposed_holds_when_it_is_simulated(seed: int) -> None:
    """The small sibling of `./herald test proposals`: fleets with caps and freezes that were planted."""
    case = made_up(seed, devices=40)
    found = case.suggested()
    assert found.proposals
    assert wrong_with(case, found) is None
    assert case.suggested() == found
