"""How many more devices may begin: what the caps of rollouts and the uplinks of sites leave."""

from collections import Counter, defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from herald.deliveries.models import Delivery
from herald.fleet.models import Site
from herald.rollouts.models import Rollout

#: an offer without a window stands for so long
NO_WINDOW = timedelta(days=30)
#: freezes are looked for so far ahead
AHEAD = NO_WINDOW
HOUR = timedelta(hours=1)


@dataclass
class SiteCapacity:
    """How many more transfers the uplink of each site carries; taken from by every rollout of a turn."""

    limits: Mapping[int, int]
    busy: Counter[int] = field(default_factory=Counter)

    @classmethod
    def now(cls) -> "SiteCapacity":
        limits = {s: n for s, n in Site.objects.values_list("id", "transfers_at_once") if n}
        return cls(limits=limits, busy=Counter(dict(Delivery.objects.transfers_by_site())))

    def left(self, site: int | None) -> int:
        limit = self.limits.get(site or 0)
        return 1_000_000 if limit is None or site is None else limit - self.busy[site]

    @property
    def full(self) -> list[int]:
        return [s for s in self.limits if self.left(s) <= 0]


@dataclass(frozen=True)
class Capacity:
    """What the caps of a rollout leave: devices in all, and per site."""

    devices: int
    #: how many of them may begin an install; a file fetched ahead is no start
    starts: int
    at_sites: Counter[int]
    per_site: int | None

    def at(self, site: int | None) -> int:
        return 1_000_000 if self.per_site is None or site is None else self.per_site - self.at_sites[site]


def capacity_of(rollout: Rollout, in_hand: int, now: datetime) -> Capacity:
    """How many more of the rollout's devices may begin now."""
    return capacities_of({rollout: in_hand}, now)[rollout.pk]


def capacities_of(in_hand: Mapping[Rollout, int], now: datetime) -> dict[int, Capacity]:
    """How many more devices of each rollout may begin now, by the rollout's id, from how many have it now."""
    hourly = [r.pk for r in in_hand if r.max_starts_per_hour is not None]
    by_site = [r.pk for r in in_hand if r.max_concurrent_per_site]
    offered = Delivery.objects.offered_since(hourly, now - HOUR) if hourly else {}
    at_sites: dict[int, Counter[int]] = defaultdict(Counter)
    for rollout_id, site, n in Delivery.objects.in_hand_by_site(by_site) if by_site else ():
        at_sites[rollout_id][site] = n
    capacities = {}
    for rollout, held in in_hand.items():
        devices = starts = rollout.max_concurrent - held
        if rollout.max_starts_per_hour is not None:
            starts = min(devices, rollout.max_starts_per_hour - offered.get(rollout.pk, 0))
        sites, per_site = at_sites[rollout.pk], rollout.max_concurrent_per_site
        capacities[rollout.pk] = Capacity(devices=devices, starts=starts, at_sites=sites, per_site=per_site)
    return capacities
