"""What is expected of the fleet in each hour: devices that restart for an install or a command, and narrow sites."""

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from herald.agenda.counts import NONE, Counts
from herald.agenda.firings import Planned
from herald.agenda.rollouts import RolloutPlan
from herald.deliveries.models import Delivery
from herald.fleet.models import Site
from herald.rollouts.models import Rollout, RolloutState, StoredForecast, Transfers
from herald_core.actions import Harm

#: one for each bar
Amounts = NDArray[np.float64]
_NOTHING: Amounts = np.zeros(0)
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

    def none(self) -> Amounts:
        return np.zeros(self.count)

    def of_spans(self, spans: Sequence[tuple[datetime, float]], length: timedelta) -> Amounts:
        """Amounts that are each spread evenly over so long from a moment on."""
        begins = np.array([self._place(at) for at, _ in spans], dtype=float)
        amounts = np.array([amount for _, amount in spans], dtype=float)
        lasts = length.total_seconds() / self._each
        found = self.none()
        # how much of each is past at the end of a bar, bar by bar that it touches; none is in more than a few
        bar, past = np.floor(begins), np.zeros(len(begins))
        while (rest := past < 1).any():
            until = np.minimum(1.0, (bar + 1 - begins) / lasts) if lasts else np.ones(len(begins))
            inside = rest & (bar >= 0) & (bar < self.count)
            found += np.bincount(bar[inside].astype(int), (amounts * (until - past))[inside], minlength=self.count)
            bar, past = bar + 1, until
        return found

    def of_hours(self, told: Iterable[tuple[datetime, Sequence[float]]]) -> Amounts:
        """So much in each hour from a moment on: what has come by the end of each bar, less what had by its begin."""
        by_moment: dict[datetime, Amounts] = {}  # most are forecast at one moment
        for at, amounts in told:
            one, other = by_moment.get(at, _NOTHING), np.asarray(amounts, dtype=float)
            longer, shorter = (one, other) if len(one) >= len(other) else (other, one)
            by_moment[at] = longer.copy()
            by_moment[at][: len(shorter)] += shorter
        found = self.none()
        for at, hours in by_moment.items():
            ends = self._place(at) + np.arange(len(hours) + 1) * (HOUR.total_seconds() / self._each)
            come = np.concatenate([[0.0], np.cumsum(hours)])
            found += np.diff(np.interp(np.arange(self.count + 1), ends, come))
        return found

    def _place(self, at: datetime) -> float:
        """A moment, counted in bars."""
        return (at.timestamp() - self._from) / self._each


def load_ahead(rollouts: Sequence[RolloutPlan], plans: Sequence[Planned], bars: Bars) -> list[LoadBar]:
    """What each bar holds: installs by the median of the stored forecasts, commands that are not gentle by their
    spread."""
    installs, commands = bars.of_hours((f.at, f.hourly) for f in _told(rollouts)), bars.none()
    spans: dict[timedelta, list[tuple[datetime, float]]] = defaultdict(list)
    for plan in plans:
        if plan.schedule.template.harm != Harm.GENTLE:
            over = timedelta(minutes=plan.schedule.spread_minutes + plan.schedule.template.minutes)
            spans[over] += [(firing.at, n) for firing, n in plan.by_zone()]
    for over, of in spans.items():
        commands += bars.of_spans(of, over)
    return [
        LoadBar(at=bars.begin(i), installs=round(float(installs[i]), 1), commands=round(float(commands[i]), 1))
        for i in range(len(bars))
    ]


def narrow_sites(rollouts: Sequence[RolloutPlan], bars: Bars, known: Counts = NONE) -> list[NarrowSite]:
    """The sites whose uplinks have most to carry for their width: by the forecasts, and where there is none yet, by how
    many devices wait there."""
    transfers = StoredForecast.objects.transfers_of([plan.rollout.pk for plan in rollouts if plan.forecast])
    expected: dict[int, float] = defaultdict(float)
    for _, by_site in transfers:
        for site, hours in by_site.items():
            expected[site] += sum(hours)
    waiting = _waiting(rollouts, known)
    much: Mapping[int, float] = expected or waiting
    sites = Site.objects.filter(pk__in=list(much), transfers_at_once__gt=0)
    busiest = sorted(sites, key=lambda s: (-much[s.pk] / s.transfers_at_once, s.name))[:MOST_SITES]
    return _told_of(busiest, waiting, transfers, bars)


def _waiting(rollouts: Sequence[RolloutPlan], known: Counts) -> Mapping[int, int]:
    """How many devices wait for a file, by site."""
    counted = [r.files_to_come for r in rollouts]
    if any(files is None for files in counted):
        return dict(Delivery.objects.files_to_come_by_site() if known.files is None else known.files)
    return sum((Counter(files) for files in counted if files), Counter())


def uplink_of(site: Site, bars: Bars) -> NarrowSite:
    """What the uplink of one site has to carry."""
    running = Rollout.objects.filter(state=RolloutState.RUNNING).values_list("pk", flat=True)
    transfers = StoredForecast.objects.transfers_of(list(running))
    [found] = _told_of([site], dict(Delivery.objects.files_to_come_by_site(site.pk)), transfers, bars)
    return found


def _told_of(
    sites: Sequence[Site], waiting: Mapping[int, int], transfers: Sequence[Transfers], bars: Bars
) -> list[NarrowSite]:
    under_way = dict(Delivery.objects.transfers_by_site())
    return [
        NarrowSite(
            id=s.pk,
            name=s.name,
            at_once=s.transfers_at_once,
            under_way=under_way.get(s.pk, 0),
            waiting=waiting.get(s.pk, 0),
            load=_load_of(s.pk, transfers, bars),
        )
        for s in sites
    ]


def _load_of(site: int, transfers: Sequence[Transfers], bars: Bars) -> list[float]:
    hours = bars.of_hours((at, by_site[site]) for at, by_site in transfers if site in by_site)
    each = bars.length / HOUR
    return [round(float(n / each), 2) for n in hours]


def _told(rollouts: Sequence[RolloutPlan]) -> Iterator[StoredForecast]:
    """The stored forecasts of rollouts that go on."""
    return (plan.forecast for plan in rollouts if plan.forecast)
