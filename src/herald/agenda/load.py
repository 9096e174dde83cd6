"""What is expected of the fleet in each hour: devices that restart for an install or a command, and narrow sites."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from herald.agenda.firings import Planned
from herald.agenda.rollouts import RolloutPlan
from herald.deliveries.models import Delivery
from herald.fleet.models import Site
from herald.rollouts.models import RolloutState
from herald_core.actions import Harm

HOUR = timedelta(hours=1)
#: at most so many bars
MOST_BARS = 200
#: sites that are shown, the narrowest first
MOST_SITES = 6


@dataclass(frozen=True, kw_only=True)
class LoadBar:
    """Devices that are expected to be out of service for a while at some moment of [at, at + its length)."""

    at: datetime
    installs: float
    commands: float


@dataclass(frozen=True, kw_only=True)
class NarrowSite:
    """A site with files to fetch: how many its uplink carries at once, how many are under way, and how many wait."""

    id: int
    name: str
    at_once: int
    under_way: int
    waiting: int


def load_ahead(
    rollouts: Sequence[RolloutPlan], plans: Sequence[Planned], *, start: datetime, end: datetime
) -> tuple[timedelta, list[LoadBar]]:
    """The length of a bar, and the bars of [start, end): installs by the median of the stored forecasts, commands that
    are not gentle by their spread."""
    hours = max(1, -((start - end) // HOUR))
    each = next((n for n in (1, 2, 3, 6, 12, 24) if hours / n <= MOST_BARS), 24)
    length = each * HOUR
    bars = max(0, -((start - end) // length))
    installs, commands = [0.0] * bars, [0.0] * bars

    def add(to: list[float], begins: datetime, ends: datetime, devices: float) -> None:
        """Devices that are spread evenly over [begins, ends)."""
        lasts = ends - begins
        place = max(0, (begins - start) // length)
        while place < bars and start + place * length < ends:
            low, high = max(begins, start + place * length), min(ends, start + (place + 1) * length)
            to[place] += devices * ((high - low) / lasts)
            place += 1

    for rollout in rollouts:
        if rollout.forecast and rollout.rollout.state == RolloutState.RUNNING:
            for hour, n in enumerate(rollout.forecast.hourly):
                if n:
                    at = rollout.forecast.at + hour * HOUR
                    add(installs, at, at + HOUR, n)
    for plan in plans:
        if plan.schedule.template.harm != Harm.GENTLE:
            over = timedelta(minutes=plan.schedule.spread_minutes + plan.schedule.template.minutes)
            for _, firing, n in plan.marks():
                add(commands, firing.at, firing.at + over, n)
    return length, [
        LoadBar(at=start + i * length, installs=round(installs[i], 1), commands=round(commands[i], 1))
        for i in range(bars)
    ]


def narrow_sites() -> list[NarrowSite]:
    """The sites whose uplinks have most to carry for their width."""
    waiting = dict(Delivery.objects.files_to_come_by_site())
    under_way = dict(Delivery.objects.transfers_by_site())
    sites = Site.objects.filter(pk__in=list(waiting), transfers_at_once__gt=0)
    found = [
        NarrowSite(
            id=s.pk, name=s.name, at_once=s.transfers_at_once, under_way=under_way.get(s.pk, 0), waiting=waiting[s.pk]
        )
        for s in sites
    ]
    return sorted(found, key=lambda s: (-s.waiting / s.at_once, s.name))[:MOST_SITES]
