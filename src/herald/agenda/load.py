"""What is expected of the fleet in each hour: devices that restart for an install or a command, and narrow sites."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from herald.agenda.firings import Planned
from herald.agenda.rollouts import RolloutPlan
from herald.deliveries.models import Delivery
from herald.fleet.models import Site
from herald.rollouts.models import RolloutState, StoredForecast
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
    """A site with files to fetch: how many its uplink carries at once, how many are under way, and how many wait.

    `load` is how many are expected to come at once, in the mean of each bar; each rollout is forecast as if the uplink
    were its own, so that several together may want more than it carries.
    """

    id: int
    name: str
    at_once: int
    under_way: int
    waiting: int
    load: Sequence[float]


class Bars:
    """The bars of [start, end): as long as hours, or as many of them as keep the bars few."""

    def __init__(self, start: datetime, end: datetime) -> None:
        hours = max(1, -((start - end) // HOUR))
        each = next((n for n in (1, 2, 3, 6, 12, 24) if hours / n <= MOST_BARS), 24)
        self.start, self.length = start, each * HOUR
        self.count = max(0, -((start - end) // self.length))
        self._from, self._each = start.timestamp(), self.length.total_seconds()

    def __len__(self) -> int:
        return self.count

    def begin(self, place: int) -> datetime:
        return self.start + place * self.length

    def none(self) -> list[float]:
        return [0.0] * self.count

    def add(self, to: list[float], begins: datetime, ends: datetime, amount: float) -> None:
        """Something that is spread evenly over [begins, ends)."""
        first, last = (begins.timestamp() - self._from) / self._each, (ends.timestamp() - self._from) / self._each
        self._put(to, first, last, amount)

    def add_hours(self, to: list[float], at: datetime, amounts: Sequence[float]) -> None:
        """So much in each hour from a moment on."""
        begins, length = (at.timestamp() - self._from) / self._each, HOUR.total_seconds() / self._each
        for hour, amount in enumerate(amounts):
            if amount:
                self._put(to, begins + hour * length, begins + (hour + 1) * length, amount)

    def _put(self, to: list[float], first: float, last: float, amount: float) -> None:
        """The same, where both ends are counted in bars."""
        place = max(0, int(first // 1))
        if first >= place and last <= place + 1:  # most are over within one bar
            if place < self.count:
                to[place] += amount
            return
        while place < self.count and place < last:
            to[place] += amount * (min(last, place + 1) - max(first, place)) / (last - first)
            place += 1


def load_ahead(rollouts: Sequence[RolloutPlan], plans: Sequence[Planned], bars: Bars) -> list[LoadBar]:
    """What each bar holds: installs by the median of the stored forecasts, commands that are not gentle by their
    spread."""
    installs, commands = bars.none(), bars.none()
    for forecast in _told(rollouts):
        bars.add_hours(installs, forecast.at, forecast.hourly)
    for plan in plans:
        if plan.schedule.template.harm != Harm.GENTLE:
            over = timedelta(minutes=plan.schedule.spread_minutes + plan.schedule.template.minutes)
            for _, firing, n in plan.marks():
                bars.add(commands, firing.at, firing.at + over, n)
    return [
        LoadBar(at=bars.begin(i), installs=round(installs[i], 1), commands=round(commands[i], 1))
        for i in range(len(bars))
    ]


def narrow_sites(rollouts: Sequence[RolloutPlan], bars: Bars) -> list[NarrowSite]:
    """The sites whose uplinks have most to carry for their width: by the forecasts, and where there is none yet, by how
    many devices wait there."""
    forecasts = list(_told(rollouts))
    expected: Counter[int] = Counter()
    for forecast in forecasts:
        for site, hours in forecast.transfers.items():
            expected[int(site)] += sum(hours)
    waiting = _waiting(rollouts)
    much: Mapping[int, float] = expected or waiting
    sites = Site.objects.filter(pk__in=list(much), transfers_at_once__gt=0)
    busiest = sorted(sites, key=lambda s: (-much[s.pk] / s.transfers_at_once, s.name))[:MOST_SITES]
    return _told_of(busiest, waiting, forecasts, bars)


def _waiting(rollouts: Sequence[RolloutPlan]) -> Mapping[int, int]:
    """How many devices wait for a file, by site."""
    counted = [r.files_to_come for r in rollouts]
    if any(files is None for files in counted):
        return dict(Delivery.objects.files_to_come_by_site())
    return sum((Counter(files) for files in counted if files), Counter())


def uplink_of(site: Site, bars: Bars) -> NarrowSite:
    """What the uplink of one site has to carry."""
    told = StoredForecast.objects.filter(rollout__state=RolloutState.RUNNING)
    [found] = _told_of([site], dict(Delivery.objects.files_to_come_by_site(site.pk)), list(told), bars)
    return found


def _told_of(
    sites: Sequence[Site], waiting: Mapping[int, int], forecasts: Sequence[StoredForecast], bars: Bars
) -> list[NarrowSite]:
    under_way = dict(Delivery.objects.transfers_by_site())
    return [
        NarrowSite(
            id=s.pk,
            name=s.name,
            at_once=s.transfers_at_once,
            under_way=under_way.get(s.pk, 0),
            waiting=waiting.get(s.pk, 0),
            load=_load_of(s.pk, forecasts, bars),
        )
        for s in sites
    ]


def _load_of(site: int, forecasts: Sequence[StoredForecast], bars: Bars) -> list[float]:
    hours = bars.none()
    for forecast in forecasts:
        bars.add_hours(hours, forecast.at, forecast.transfers.get(str(site), ()))
    each = bars.length / HOUR
    return [round(n / each, 2) for n in hours]


def _told(rollouts: Sequence[RolloutPlan]) -> Iterator[StoredForecast]:
    """The stored forecasts of rollouts that go on."""
    return (plan.forecast for plan in rollouts if plan.forecast)
