"""Suggested hours on made-up fleets with caps and freezes that were planted: what is proposed holds when it is
simulated turn by turn, and the soonest is hardly later than the best of all hours, looked for one by one.

`python -m tests.suggested_hours FIRST COUNT` tries so many fleets, from a seed on; `./herald test proposals` runs it.
"""

import json
import sys
from dataclasses import dataclass, replace
from datetime import UTC, datetime, time, timedelta

import numpy as np
from bench.forecast import situation_of

from herald_core.capacity import Caps
from herald_core.forecast import forecast
from herald_core.forecast.engine import QuantileBand
from herald_core.proposals import DAY_HOURS, AllowedHours, HoursPlan, Suggestion, is_in_time, suggest
from herald_core.rings.gates import GateSpec
from herald_core.simulation.fleet import Behaviour, SimDevice, make_fleet
from herald_core.simulation.rollout import SimFreeze, SimPlan, SimRollout
from herald_core.timing.windows import Window

NOW = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)
DAY = 86_400.0
ZONES = ("Australia/Adelaide", "Europe/Lisbon", "America/Santiago")
FUTURES, FAILING = 60, 0.02
#: the soonest proposal is later than the best hours by at most this share
WITHIN = 0.1


@dataclass(frozen=True)
class Case:
    """A fleet, a rollout on it, what hours may be used, and by when it is to be through, in seconds from `NOW`."""

    seed: int
    plan: SimPlan
    fleet: list[SimDevice]
    allowed: AllowedHours
    deadline: float

    def with_hours(self, hours: HoursPlan) -> SimPlan:
        return replace(self.plan, window=hours.window, spread=timedelta(minutes=hours.spread_minutes))

    def end_of(self, hours: HoursPlan) -> QuantileBand:
        return self._end(self.with_hours(hours))

    def end_within(self, window: Window | None) -> QuantileBand:
        """When it ends in any hours at all, with nobody spread out."""
        return self._end(replace(self.plan, window=window, spread=timedelta(0)))

    def _end(self, plan: SimPlan) -> QuantileBand:
        situation = replace(situation_of(plan, self.fleet, NOW), failure_rate=FAILING)
        return forecast(situation, seed=self.seed, futures=FUTURES).end

    def suggested(self) -> Suggestion:
        return suggest(self.allowed, self.plan.minutes, self.deadline, self.end_of)

    def played_until(self, hours: HoursPlan) -> datetime | None:
        """When it ends as the simulator plays it, on devices that do as they like."""
        how = Behaviour(seed=self.seed, failure_rate=FAILING)
        played = SimRollout(self.with_hours(hours), self.fleet, how, NOW, timedelta(minutes=1))
        return played.play(NOW + timedelta(days=14)).ended_at


def made_up(seed: int, *, devices: int = 60) -> Case:
    """A case that belongs to a seed."""
    rng = np.random.default_rng(seed)
    freeze = NOW + timedelta(hours=float(rng.uniform(10, 40)))
    length = timedelta(hours=float(rng.uniform(12, 48)))
    plan = SimPlan(
        rings=[GateSpec(confirmed_share=0.9, failure_limit=0.5, soak=timedelta(hours=2)) for _ in range(2)],
        freezes=[SimFreeze(start=freeze, end=freeze + length, everywhere=bool(rng.random() < 0.7))],
        caps=Caps(
            max_concurrent=int(rng.choice([6, 12, 30])),
            per_site=int(rng.choice([2, 4])) if rng.random() < 0.5 else None,
        ),
        minutes=10,
        failure_limit=0.5,
    )
    return Case(
        seed=seed,
        plan=plan,
        fleet=make_fleet(devices, zones=ZONES, rings=(0.2, 0.8), seed=seed),
        allowed=AllowedHours(int(rng.choice([18, 20, 22])), int(rng.choice([8, 10, 12]))),
        deadline=float(rng.uniform(4, 9)) * DAY,
    )


def wrong_with(case: Case, found: Suggestion) -> str | None:
    """What is wrong with what is suggested; none where all of it holds."""
    if found.nearest is not None and is_in_time(found.nearest[1], case.deadline):
        return "nothing is proposed, though something is in time"
    for proposal in found.proposals:
        ended = case.played_until(proposal.plan)
        late = ended is None or (ended - NOW).total_seconds() > case.deadline
        if late:
            return f"{proposal.plan} is through at {ended}, which is too late"
    if found.proposals:
        best = best_of_all(case)
        soonest = min(p.end.median for p in found.proposals)
        if soonest > best / (1 - WITHIN) + 60:
            return f"the soonest takes {soonest / 3600:.1f} h, the best of all hours {best / 3600:.1f} h"
    return None


def best_of_all(case: Case) -> float:
    """The soonest median of all hours within those allowed, hour by hour, in seconds from now."""
    allowed = case.allowed
    ends = [
        case.end_within(_window((allowed.start + later) % DAY_HOURS, length)).median
        for length in range(1, allowed.length + 1)
        for later in range(allowed.length - length + 1)
    ]
    return float(min(ends))


def _window(start: int, length: int) -> Window | None:
    return None if length >= DAY_HOURS else Window(start=time(start), end=time((start + length) % DAY_HOURS))


def main(first: int, count: int) -> int:
    """Try so many cases; how many went wrong."""
    wrong = proposals = 0
    for seed in range(first, first + count):
        case = made_up(seed)
        found = case.suggested()
        problem = wrong_with(case, found)
        proposals += len(found.proposals)
        if problem is not None:
            wrong += 1
            print(json.dumps({"seed": seed, "wrong": problem}), flush=True)
    print(json.dumps({"fleets": count, "proposals": proposals, "wrong": wrong}), flush=True)
    return wrong


if __name__ == "__main__":
    sys.exit(1 if main(int(sys.argv[1]), int(sys.argv[2])) else 0)
