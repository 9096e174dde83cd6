"""Whom the clock offers a rollout's image to: open rings, open windows, no freeze, and room under every cap."""

import time
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db.models import Q, QuerySet

from herald.calendar.models import FreezeTime
from herald.calendar.services import freezes_between, held_by
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.capabilities import lacking
from herald.fleet.models import Device
from herald.rollouts.capacity import AHEAD, NO_WINDOW, Capacity, SiteCapacity, capacity_of
from herald.rollouts.models import Ring, Rollout
from herald_core.capabilities import Capability
from herald_core.deliveries import ACTIVE, Phase
from herald_core.timing.spread import share_due
from herald_core.timing.windows import next_begin, opening_at

#: devices of several rollouts are looked for again after so long (of real time)
LOOKED_FOR_SECONDS = 15.0
NO_TIME = timedelta(0)


@dataclass(frozen=True)
class PendingImage:
    """An image that devices of a rollout wait for."""

    image: int
    length: timedelta
    version_key: str


@dataclass(frozen=True)
class PendingImages:
    """What devices of a rollout wait for, and whether somebody wants some of them ahead of their ring."""

    images: Sequence[PendingImage]
    some_expedited: bool


@dataclass(frozen=True)
class OfferContext:
    """What is the same for all rollouts of a turn: the zones of devices, the freezes to come, the capacity of sites,
    and the best rank among the rollouts that want a device, where several do."""

    zones: Sequence[str]
    freezes: Sequence[FreezeTime]
    sites: SiteCapacity
    best_rank: Mapping[int, int]
    #: devices that have an active order; each rollout of the turn adds those it offers to
    busy: set[int]

    @classmethod
    def now(cls, now: datetime, rollout_ids: Sequence[int]) -> "OfferContext":
        return cls(
            zones=Device.objects.zones(),
            freezes=freezes_between(now, now + AHEAD),
            sites=SiteCapacity.now(),
            best_rank=_shared.best_ranks(rollout_ids),
            busy=Delivery.objects.all_busy(),
        )

    def outranked(self, rank: int) -> list[int]:
        """Devices that an open rollout of higher rank wants too."""
        return [device for device, best in self.best_rank.items() if best < rank]


class _SharedDevicesCache:
    """Which devices several rollouts have. To look for them takes as long as the rest of a turn, so it is done when
    rollouts begin or end, when deliveries were written, and now and then: one that is written while another
    transaction with a higher id ends first would not be seen otherwise."""

    def __init__(self) -> None:
        self._known: tuple[object, ...] = ()
        self._devices: list[int] = []
        self._looked = 0.0

    def best_ranks(self, rollout_ids: Sequence[int]) -> dict[int, int]:
        """Devices that several open rollouts want, and the best (lowest) rank among these."""
        known = (*sorted(rollout_ids), Delivery.objects.newest_id())
        if known != self._known or time.monotonic() - self._looked > LOOKED_FOR_SECONDS:
            self._devices = Delivery.objects.in_several(rollout_ids)
            self._known, self._looked = known, time.monotonic()
        return Delivery.objects.best_ranks(self._devices) if self._devices else {}


_shared = _SharedDevicesCache()


def offer(
    rollout: Rollout,
    rings: Sequence[Ring],
    counts: Mapping[int, Mapping[str, int]],
    waits: PendingImages,
    context: OfferContext,
    now: datetime,
) -> None:
    """Offer to as many devices as there is room for, where the install can end before the window and the next
    freeze do."""
    in_hand = sum(n for phases in counts.values() for p, n in phases.items() if p in ACTIVE)
    waiting = sum(phases.get(Phase.WAITING, 0) for phases in counts.values())
    if waiting == 0 or in_hand >= rollout.max_concurrent:
        return
    capacity = capacity_of(rollout, in_hand, now)
    binding = [] if rollout.ignores_freezes else context.freezes
    whose = Q(ring__in=[r.pk for r in rings])
    mine = Delivery.objects.of_rollout(rollout.pk).filter(whose | Q(expedited=True) if waits.some_expedited else whose)
    if outranked := context.outranked(rollout.rank):
        mine = mine.exclude(device_id__any=outranked)
    started, left = 0, min(capacity.devices, capacity.starts)
    turns = _SpreadSchedule(rollout, rings, now)
    for chosen, until in _install_batches(
        turns, mine.free_to_offer(now, context.busy), waits.images, context.zones, binding
    ):
        if started >= left:
            break
        ids = _within_sites(chosen, left - started, capacity, context)
        started += deliveries.offer(ids, until=until, now=now)
    if not rollout.prefetch:
        return
    left = capacity.devices - started
    can_fetch = mine.free_to_fetch(now, context.busy).exclude(lacking(Capability.FILES_AHEAD, "device__"))
    for chosen, until in _prefetch_batches(turns, can_fetch, waits.images, context.zones, binding):
        if left <= 0:
            return
        ids = _within_sites(chosen, left, capacity, context)
        left -= deliveries.offer(ids, until=until, now=now, fetch_only=True)


def _of(free: "QuerySet[Delivery]", wait: PendingImage) -> "QuerySet[Delivery]":
    """Those that wait for this image; devices that run it and are well are found done at the next look."""
    return free.filter(image=wait.image).exclude(device__healthy=True, device__firmware_key=wait.version_key)


@dataclass(frozen=True)
class _SpreadSchedule:
    """When whose turn in the spread of a rollout comes, in its open rings."""

    rollout: Rollout
    rings: Sequence[Ring]
    now: datetime

    def come(self, free: "QuerySet[Delivery]", begins: datetime, latest: datetime | None) -> "QuerySet[Delivery]":
        """Those whose turn has come in hours that opened at `begins`, where work may begin until `latest`."""
        spread = timedelta(minutes=self.rollout.spread_minutes)
        opened = {r.pk: max(begins, self.rollout.begins_in(r) or begins) for r in self.rings}
        due = {pk: share_due(spread, begins=at, latest=latest, now=self.now) for pk, at in opened.items()}
        if all(share >= 1.0 for share in due.values()):
            return free
        turn = Q(expedited=True)
        for ring, share in due.items():
            turn |= Q(ring=ring, spread_position__lte=share)
        return free.filter(turn)


def _prefetch_batches(
    turns: _SpreadSchedule,
    free: "QuerySet[Delivery]",
    waits: Sequence[PendingImage],
    zones: Sequence[str],
    freezes: Sequence[FreezeTime],
) -> Iterator[tuple["QuerySet[Delivery]", datetime]]:
    """Deliveries whose file may be fetched ahead, in zones where no install can begin now, with the latest moment at
    which the device may begin: an offer that is not taken up ends when the install itself can be offered."""
    rollout, now = turns.rollout, turns.now
    for wait in waits:
        by_end: dict[tuple[datetime, datetime], list[str]] = defaultdict(list)
        for zone in zones:
            install = next_begin(rollout.window, zone, now, wait.length)
            opening = opening_at(rollout.staging_hours, zone, now)
            if install > now and opening is not None:
                by_end[min(install, opening[1]), opening[0]].append(zone)
        of_image = _of(free, wait)
        for (latest, begins), names in sorted(by_end.items()):
            due = turns.come(of_image.filter(device__time_zone__in=names), begins, latest)
            yield from _before_freezes(due, latest, NO_TIME, freezes, now)


def _install_batches(
    turns: _SpreadSchedule,
    free: "QuerySet[Delivery]",
    waits: Sequence[PendingImage],
    zones: Sequence[str],
    freezes: Sequence[FreezeTime],
) -> Iterator[tuple["QuerySet[Delivery]", datetime]]:
    """Deliveries that may be offered, with the latest moment at which the device may begin; the sooner ones first."""
    now, window = turns.now, turns.rollout.window
    by_end: dict[tuple[datetime, datetime], list[str]] = defaultdict(list)
    for zone in zones:
        opening = opening_at(window, zone, now)
        if opening is not None:
            by_end[opening[1], opening[0]].append(zone)
    for wait in waits:
        needed, of_image = wait.length, _of(free, wait)
        for (closes, begins), names in sorted(by_end.items()):
            latest = now + NO_WINDOW if window is None else closes - needed
            if latest > now:
                there = of_image.filter(device__time_zone__in=names)
                due = turns.come(there, begins, None if window is None else latest)
                yield from _before_freezes(due, latest, needed, freezes, now)


def _before_freezes(
    free: "QuerySet[Delivery]", latest: datetime, needed: timedelta, freezes: Sequence[FreezeTime], now: datetime
) -> Iterator[tuple["QuerySet[Delivery]", datetime]]:
    for freeze in freezes:
        begin_by = freeze.starts_at - needed
        if begin_by >= latest:
            break
        if begin_by > now:
            yield free.filter(held_by(freeze, "device_id")), begin_by
        free = free.exclude(held_by(freeze, "device_id"))
    yield free, latest


def _within_sites(free: "QuerySet[Delivery]", most: int, capacity: Capacity, context: OfferContext) -> list[int]:
    """Ids of at most `most` of them, so that no site gets more than its uplink and the cap allow."""
    sites = context.sites
    full = sites.full + [s for s, n in capacity.at_sites.items() if capacity.per_site and n >= capacity.per_site]
    found = free.exclude(device__site__in=full) if full else free
    ids = []
    for pk, device, site in found.values_list("id", "device_id", "device__site_id")[:most]:
        if sites.left(site) > 0 and capacity.at(site) > 0:
            ids.append(pk)
            context.busy.add(device)
            if site is not None:
                sites.busy[site] += 1
                capacity.at_sites[site] += 1
    return ids
