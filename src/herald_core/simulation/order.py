"""Whom a simulated rollout may offer to, and in which order, as the server's query has it."""

from collections import defaultdict
from collections.abc import Sequence
from datetime import datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from herald_core.simulation.fleet import SimDevice
from herald_core.timing.windows import Window, next_begin, next_opening, open_until

Indices = NDArray[np.intp]


class Hours:
    """When the window is open in each zone, looked up once for each opening."""

    def __init__(self, window: Window | None, zones: Sequence[str]) -> None:
        self.zones = list(zones)
        self._window = window
        self._until: list[tuple[datetime, datetime | None] | None] = [None] * len(zones)

    def open_zones(self, now: datetime) -> list[tuple[datetime, list[int]]]:
        """Ends of openings that hold `now`, the soonest first, with the zones of each."""
        by_end: dict[datetime, list[int]] = defaultdict(list)
        for index, zone in enumerate(self.zones):
            kept = self._until[index]
            if kept is None or now >= kept[0]:
                closes = open_until(self._window, zone, now)
                changes = closes if closes is not None else next_opening(self._window, zone, now)
                kept = self._until[index] = (changes, closes)
            if kept[1] is not None:
                by_end[kept[1]].append(index)
        return sorted(by_end.items())


def hours_for_files(
    window: Window | None, staging: Window | None, zones: Sequence[str], now: datetime, needed: timedelta
) -> list[tuple[datetime, list[int]]]:
    """Zones in which files may be fetched ahead, as no install can begin there now, by when offers of that end."""
    by_end: dict[datetime, list[int]] = defaultdict(list)
    for index, zone in enumerate(zones):
        begins = next_begin(window, zone, now, needed)
        closes = open_until(staging, zone, now)
        if begins > now and closes is not None:
            by_end[min(begins, closes)].append(index)
    return sorted(by_end.items())


class Columns:
    """What the order of offers depends on, one array a field; times in seconds since the start."""

    def __init__(self, devices: Sequence[SimDevice], start: datetime, zones: Sequence[str]) -> None:
        self.ids = np.array([d.id for d in devices])
        self.ring = np.array([d.ring for d in devices])
        self.zone = np.array([zones.index(d.zone) for d in devices])
        self.group = np.array([d.group for d in devices], dtype=bool)
        self.interval = np.array([d.interval.total_seconds() for d in devices])
        first = [(d.call_after(start, start - timedelta(seconds=1)) - start).total_seconds() for d in devices]
        self.first_call = np.array(first)
        self.waiting = np.ones(len(devices), dtype=bool)
        self.with_file = np.zeros(len(devices), dtype=bool)
        self.able_ahead = np.array([d.able_ahead for d in devices], dtype=bool)
        self.not_before = np.zeros(len(devices))
        self.last_call = np.full(len(devices), -np.inf)

    def may_be_offered(self, last_ring: int, zones: Sequence[int], now: float) -> Indices:
        """Those that wait in open rings and zones, and whose pause is over."""
        ready = self.waiting & (self.ring <= last_ring) & (self.not_before <= now) & np.isin(self.zone, zones)
        return np.flatnonzero(ready)

    def may_fetch(self, last_ring: int, zones: Sequence[int], now: float) -> Indices:
        """Those of them that can fetch their file ahead and have not yet."""
        ready = self.may_be_offered(last_ring, zones, now)
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
