"""Hours for a rollout that has to be through by a moment: what the core's search starts from."""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from herald.commands.firing import firings_in
from herald.commands.models import Schedule
from herald.commands.reach import able_of
from herald.http.errors import Conflict, Invalid
from herald.rollouts.models import OPEN_STATES, Rollout, RolloutState
from herald.rollouts.watch.forecast import ForecastBasis, forecast_basis
from herald_core.actions import Harm
from herald_core.forecast import forecast
from herald_core.forecast.engine import QuantileBand, without
from herald_core.proposals import AllowedHours, HoursPlan, Suggestion, suggest

#: many plans are compared, each in fewer futures than one forecast takes
FUTURES = 60


@dataclass(frozen=True, kw_only=True)
class HoursSuggestion:
    """What the search found, and what it kept clear of: the commands that restart devices of the rollout. `others` are
    the rollouts that go first with some of the devices, and how many."""

    suggestion: Suggestion
    devices: int
    kept_clear: Sequence[Schedule]
    others: Sequence[tuple[Rollout, int]]


def suggest_hours(rollout: Rollout, *, by: datetime, allowed: AllowedHours, now: datetime) -> HoursSuggestion:
    """Hours and a spread with which the rollout, a draft or an open one, is through by a moment. Its caps, rings and
    gates stay as they are; freezes, and firings that restart devices of it, are no hours. An open one may go before
    the other rollouts that want its devices; a draft waits for those that would go first, as it will when launched.

    Raises:
        Invalid: the moment is past, or later than the rollout ends. Conflict: it has ended, or has nobody left.
    """
    if rollout.state not in (RolloutState.DRAFT, *OPEN_STATES):
        raise Conflict("It has ended; there is nothing left to plan.")
    if by <= now:
        raise Invalid("/by", "Choose a moment that is still to come.")
    basis = forecast_basis(rollout, now=now)
    if not basis.devices:
        raise Conflict("It has no device that is not through.")
    if by > now + basis.horizon:
        days = basis.horizon // timedelta(days=1)
        raise Invalid("/by", f"It ends by itself after {days} days; choose a moment before that, or let it run longer.")
    closed, schedules = _restarts(basis, now)

    def end_of(plan: HoursPlan) -> QuantileBand:
        situation = basis.going_first() if plan.goes_first else basis.situation
        inputs = without(situation, hours=basis.hours_with(plan.window, now, closed), spread=60.0 * plan.spread_minutes)
        return forecast(inputs, seed=rollout.seed % 2**32, futures=FUTURES).end

    may_go_first = bool(basis.others) and rollout.launched_at is not None
    found = suggest(allowed, basis.situation.minutes, (by - now).total_seconds(), end_of, may_go_first=may_go_first)
    ahead = Rollout.objects.listed().in_bulk(list(basis.others))
    others = [(ahead[pk], n) for pk, n in sorted(basis.others.items())]
    return HoursSuggestion(suggestion=found, devices=len(basis.devices), kept_clear=schedules, others=others)


def _restarts(basis: ForecastBasis, now: datetime) -> tuple[dict[str, list[tuple[datetime, datetime]]], list[Schedule]]:
    """By zone the times in which commands restart devices of the rollout, and those commands."""
    closed: dict[str, list[tuple[datetime, datetime]]] = defaultdict(list)
    zones = {zone for zone, _ in basis.kinds}
    schedules = []
    for schedule in Schedule.objects.active():
        if schedule.template.harm == Harm.GENTLE or schedule.recurrence is None:
            continue
        if not able_of(schedule).by_ids(list(basis.devices)).exists():
            continue
        schedules.append(schedule)
        lasts = timedelta(minutes=schedule.spread_minutes + schedule.template.minutes)
        for zone, firings in firings_in(schedule, zones, start=now - lasts, end=now + basis.horizon).items():
            closed[zone] += [(firing.at, firing.at + lasts) for firing in firings]
    return closed, schedules
