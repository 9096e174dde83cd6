"""Whom a simulated rollout may offer to, and in which order, as the server's query has it."""

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from herald_core.capacity import Caps
from herald_core.simulation.fleet import SimDevice
from herald_core.timing.windows import Window, next_begin, next_opening, opening_at

Indices = NDArray[np.intp]
#: places up to which devices may begin, one for each ring; none of a ring that is shut
Due = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True)
class Opening:
    """Hours that have begun: offers in them end at `latest`, and these zones (by their index) are in them."""

    begins: datetime
    latest: datetime
    zones: list[int]


class Hours:
    """When the window is open in each zone, looked up once for each opening."""

    def __init__(self, window: Window | None, zones: Sequence[str]) -> None:
        self.zones = list(zones)
        self._window = window
        self._kept: list[tuple[datetime, tuple[datetime, datetime] | None] | None] = [None] * len(zones)

    def openings(self, now: datetime) -> list[Opening]:
        """Openings that hold `now`, the one that ends soonest first."""
        by_end: dict[tuple[datetime, datetime], list[int]] = defaultdict(list)
        for index, zone in enumerate(self.zones):
            kept = self._kept[index]
            if kept is None or now >= kept[0]:
                opening = opening_at(self._window, zone, now)
                changes = opening[1] if opening is not None else next_opening(self._window, zone, now)
                kept = self._kept[index] = (changes, opening)
            if kept[1] is not None:
                begins, closes = kept[1]
                by_end[closes, begins].append(index)
        return [Opening(begins=b, latest=c, zones=z) for (c, b), z in sorted(by_end.items())]


def openings_for_files(
    window: Window | None, staging: Window | None, zones: Sequence[str], now: datetime, needed: timedelta
) -> list[Opening]:
    """Hours in which files may be fetched ahead, of zones in which no install can begin now."""
    by_end: dict[tuple[datetime, datetime], list[int]] = defaultdict(list)
    for index, zone in enumerate(zones):
        install = next_begin(window, zone, now, needed)
        opening = opening_at(staging, zone, now)
        if install > now and opening is not None:
            by_end[min(install, opening[1]), opening[0]].append(index)
    return [Opening(begins=b, latest=c, zones=z) for (c, b), z in sorted(by_end.items())]


class Room:
    """What the caps leave at a turn; taken from by `take`."""

    def __init__(self, caps: Caps, columns: "Columns", in_hand: int, now: float) -> None:
        self._caps, self._columns = caps, columns
        self.devices = self.starts = caps.max_concurrent - in_hand
        if caps.per_hour is not None:
            started = int(np.count_nonzero(columns.offered_at > now - 3600))
            self.starts = min(self.devices, caps.per_hour - started)
        self._at_site = _by_site(columns, columns.in_hand) if caps.per_site else Counter()
        self._fetching = _by_site(columns, columns.fetching) if caps.uplinks else Counter()

    def take(self, chosen: Indices, most: int) -> list[int]:
        """At most `most` of the devices, in their order; those whose site is full are passed over."""
        if not self._caps.per_site and not self._caps.uplinks:
            return [int(i) for i in chosen[: max(0, most)]]
        sites = self._columns.site
        full = np.zeros(int(sites.max(initial=0)) + 1, dtype=bool)
        if self._caps.per_site:
            full[[s for s, n in self._at_site.items() if n >= self._caps.per_site]] = True
        full[[s for s, n in self._caps.uplinks.items() if s < len(full) and self._fetching[s] >= n]] = True
        taken = []
        for index in chosen[~full[sites[chosen]]][: max(0, most)]:
            site = int(sites[index])
            uplink = self._caps.uplinks.get(site)
            if (self._caps.per_site and self._at_site[site] >= self._caps.per_site) or (
                uplink is not None and self._fetching[site] >= uplink
            ):
                continue
            self._at_site[site] += 1
            self._fetching[site] += 1
            taken.append(int(index))
        return taken


def _by_site(columns: "Columns", which: NDArray[np.bool_]) -> Counter[int]:
    return Counter(dict(enumerate(np.bincount(columns.site[which]).tolist())))


class Columns:
    """What the order of offers depends on, one array a field; times in seconds since the start."""

    def __init__(self, devices: Sequence[SimDevice], start: datetime, zones: Sequence[str]) -> None:
        self._zones = len(zones)
        self.ids = np.array([d.id for d in devices])
        self.ring = np.array([d.ring for d in devices])
        self.zone = np.array([zones.index(d.zone) for d in devices])
        self.site = np.array([d.site for d in devices], dtype=np.int64)
        self.place = np.array([d.place for d in devices])
        self.group = np.array([d.group for d in devices], dtype=bool)
        self.interval = np.array([d.interval.total_seconds() for d in devices])
        first = [(d.call_after(start, start - timedelta(seconds=1)) - start).total_seconds() for d in devices]
        self.first_call = np.array(first)
        self.waiting = np.ones(len(devices), dtype=bool)
        self.in_hand = np.zeros(len(devices), dtype=bool)
        self.fetching = np.zeros(len(devices), dtype=bool)
        self.offered_at = np.full(len(devices), -np.inf)
        self.with_file = np.zeros(len(devices), dtype=bool)
        self.able_ahead = np.array([d.able_ahead for d in devices], dtype=bool)
        self.not_before = np.zeros(len(devices))
        self.last_call = np.full(len(devices), -np.inf)

    def may_be_offered(self, due: Due, zones: Sequence[int], now: float) -> Indices:
        """Those that wait in open rings and zones, whose place in the spread has come and whose pause is over."""
        last_open = int(np.flatnonzero(due >= 0).max(initial=-1))
        waiting = np.flatnonzero(self.waiting & (self.ring <= last_open))
        in_zones = np.zeros(self._zones, dtype=bool)
        in_zones[list(zones)] = True
        ready = waiting[in_zones[self.zone[waiting]] & (self.place[waiting] <= due[self.ring[waiting]])]
        free: Indices = ready[self.not_before[ready] <= now]
        return free

    def may_fetch(self, due: Due, zones: Sequence[int], now: float) -> Indices:
        """Those of them that can fetch their file ahead and have not yet."""
        ready = self.may_be_offered(due, zones, now)
        return ready[self.able_ahead[ready] & ~self.with_file[ready]]

    def called(self, chosen: Indices, now: float) -> NDArray[np.float64]:
        """When these devices last called; minus infinity where they never did."""
        first, interval = self.first_call[chosen], self.interval[chosen]
        regular = np.where(first <= now, first + np.floor((now - first) / interval) * interval, -np.inf)
        latest: NDArray[np.float64] = np.maximum(regular, self.last_call[chosen])
        return latest

    def in_turn(self, chosen: Indices, now: float) -> Indices:
        """The order in which the server offers: those on time, who has the file and who is to call next first; then
        who is late."""
        called, interval = self.called(chosen, now), self.interval[chosen]
        late = called < now - 2 * interval
        due = np.where(np.isneginf(called), np.inf, called + interval)
        return chosen[np.lexsort((self.ids[chosen], due, ~self.with_file[chosen], late))]
