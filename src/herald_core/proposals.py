"""When could it be done? Hours for a rollout that has to be through by a moment, found by search.

Every choice of hours within those that are allowed, and of a spread, is forecast; the caps stay what they are, and
freezes and the firings of other commands are no hours. Where other rollouts go first with some of the devices, each is
forecast both ways: behind them, and before them. Of the choices that are through in time, up to three are
proposed: the gentlest, the soonest, and one between. The search tries each choice once, in a fixed order and with the
same futures, so that it answers the same each time that it is asked.
"""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import time
from enum import StrEnum

from herald_core.forecast.engine import QuantileBand
from herald_core.timing.windows import Window

#: spreads that are tried, in minutes: the longer, the gentler
SPREADS = (60, 15, 0)
#: how long a choice is at least, in hours, and by how many hours choices differ: more where many are allowed
SHORTEST, STEP, WIDE_STEP = 2, 2, 4
WIDE = 12
DAY_HOURS = 24
#: a plan that is sooner by less than this share is no choice beside a gentler one
WORTH_IT = 0.1


@dataclass(frozen=True)
class AllowedHours:
    """The hours of the device's clock that may be used: from one hour of the day, so many on."""

    start: int
    length: int


#: what people sleep through, where nobody said anything else
NIGHT = AllowedHours(start=22, length=8)


@dataclass(frozen=True)
class HoursPlan:
    """Hours by the device's clock, all of them where `length` is 24, and so many minutes over which devices begin.
    With `goes_first`, other rollouts that want the same devices wait for this one."""

    start: int
    length: int
    spread_minutes: int
    goes_first: bool = False

    @property
    def window(self) -> Window | None:
        """The window of these hours; None for any hour."""
        if self.length >= DAY_HOURS:
            return None
        return Window(start=time(self.start), end=time((self.start + self.length) % DAY_HOURS))

    @property
    def gentleness(self) -> tuple[bool, int, int, int]:
        """Plans in the order of this are ever less gentle: before others, hours outside of the night, hours, and starts
        together."""
        night = {(NIGHT.start + h) % DAY_HOURS for h in range(NIGHT.length)}
        mine = {(self.start + h) % DAY_HOURS for h in range(self.length)}
        return self.goes_first, len(mine - night), self.length, -self.spread_minutes


class Choice(StrEnum):
    """Why a plan is proposed."""

    GENTLEST = "gentlest"
    BETWEEN = "between"
    SOONEST = "soonest"


@dataclass(frozen=True)
class Proposal:
    """A plan that is through in time, and when, in seconds from now."""

    choice: Choice
    plan: HoursPlan
    end: QuantileBand


@dataclass(frozen=True)
class Suggestion:
    """Up to three proposals, the gentlest first. `gentler` is the plan before the gentlest one, which is too late, with
    its end: it says why no gentler one is proposed. Without any proposal, `nearest` ends soonest."""

    proposals: Sequence[Proposal]
    gentler: tuple[HoursPlan, QuantileBand] | None
    nearest: tuple[HoursPlan, QuantileBand] | None
    tried: int


def plans_within(allowed: AllowedHours, needed_minutes: float, *, may_go_first: bool = False) -> Iterator[HoursPlan]:
    """Every choice of hours within the allowed ones that an install fits into, with each spread that fits, and behind
    and before other rollouts where it may go first."""
    step = STEP if allowed.length <= WIDE else WIDE_STEP
    for length in sorted({*range(SHORTEST, allowed.length + 1, step), allowed.length}):
        room = 0 if length >= DAY_HOURS else allowed.length - length
        for later in sorted({*range(0, room + 1, step), room}):
            for spread in SPREADS:
                if spread + needed_minutes < 60 * length:
                    for goes_first in (False, True) if may_go_first else (False,):
                        yield HoursPlan((allowed.start + later) % DAY_HOURS, length, spread, goes_first)


def is_in_time(end: QuantileBand, deadline: float) -> bool:
    """Whether a plan may be promised: not only four futures of five are through by then, but as much later as the
    latest of those is than the median. What is promised has to hold more often than a forecast."""
    return bool(2 * end.high - end.median <= deadline)


def suggest(
    allowed: AllowedHours,
    needed_minutes: float,
    deadline: float,
    end_of: Callable[[HoursPlan], QuantileBand],
    *,
    may_go_first: bool = False,
) -> Suggestion:
    """Hours with which a rollout is through by a deadline, in seconds from now. `end_of` forecasts a plan. Going before
    others is proposed only where nothing behind them is in time, or it is much sooner."""
    plans = sorted(
        plans_within(allowed, needed_minutes, may_go_first=may_go_first),
        key=lambda p: (p.gentleness, (p.start - allowed.start) % DAY_HOURS),
    )
    ends = [(plan, end_of(plan)) for plan in plans]
    in_time = [(plan, end) for plan, end in ends if is_in_time(end, deadline)]
    if not in_time:
        nearest = min(ends, key=lambda e: (e[1].median, e[1].high, e[0].gentleness), default=None)
        return Suggestion([], None, nearest, len(ends))
    gentlest, soonest = in_time[0], _soonest(in_time)
    found = [Proposal(Choice.GENTLEST, *gentlest)]
    if soonest[1].median < (1 - WORTH_IT) * gentlest[1].median:
        middle = (gentlest[1].median + soonest[1].median) / 2
        between = next(e for e in (*in_time, soonest) if e[1].median <= middle)
        if between[0] not in (gentlest[0], soonest[0]):
            found.append(Proposal(Choice.BETWEEN, *between))
        found.append(Proposal(Choice.SOONEST, *soonest))
    too_late = ends[: plans.index(gentlest[0])]
    return Suggestion(found, too_late[-1] if too_late else None, None, len(ends))


def _soonest(plans: Sequence[tuple[HoursPlan, QuantileBand]]) -> tuple[HoursPlan, QuantileBand]:
    """The plan that ends soonest; one that goes before others only where it is worth it, beside the soonest that does
    not and beside the gentlest."""
    gentlest, best = plans[0], min(plans, key=_by_end)
    behind = [p for p in plans if not p[0].goes_first]
    if not best[0].goes_first or not behind:
        return best
    other, nearly = min(behind, key=_by_end), best[1].median / (1 - WORTH_IT)
    return other if other[1].median <= min(nearly, (1 - WORTH_IT) * gentlest[1].median) else best


def _by_end(plan: tuple[HoursPlan, QuantileBand]) -> tuple[object, ...]:
    return plan[1].median, plan[0].gentleness
