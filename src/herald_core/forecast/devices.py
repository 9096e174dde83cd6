"""The devices of one ring in all futures, going from one opening of their hours to the next."""

from collections import defaultdict
from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from herald_core.forecast.inputs import DAY, Fleet, Floats, ForecastInputs, Hours
from herald_core.forecast.queues import Indices, Slots, Tries, queue
from herald_core.forecast.transfers import SiteTransfers
from herald_core.timing.spread import MAX_WINDOW_SHARE

#: an install takes this much of the image's minutes, a fetch of what it takes on average, while too few were seen
INSTALL_FACTORS = (0.5, 1.2)
FETCH_FACTORS = (0.4, 1.6)
ENOUGH_SEEN = 12
FIRST_PAUSE = 600.0
#: half of the silent devices come back, at any time within so many days
SILENT_BACK = 0.5
SILENT_DAYS = 10.0
_ROUNDS = 400


class RingDevices:
    """Devices of a ring that opens at `opens`, one moment a future, whose attempts fail at `rates` and take `pace`
    times as long as is usual.

    Each stands for `weight` devices. `done` and `failed` are when each is confirmed or has failed for good, a row a
    future; infinity for never.
    """

    def __init__(
        self,
        situation: ForecastInputs,
        fleet: Fleet,
        opens: Floats,
        *,
        opened: float,
        rates: Floats,
        pace: Floats,
        weight: float,
        rng: np.random.Generator,
        before: "RingDevices | None" = None,
    ) -> None:
        self.s, self.fleet, self.rng, self.rates, self.weight = situation, fleet, rng, rates, weight
        self.futures = len(opens)
        self.spread_from = opens - opened
        self.pace = pace
        shape = (self.futures, len(fleet))
        self.ready = np.maximum(fleet.ready[None, :], opens[:, None]).astype(np.float64)
        self._let_silent_come_back(shape)
        self.steps = np.broadcast_to(fleet.steps, shape).copy()
        self.attempts = np.broadcast_to(fleet.attempts, shape).copy()
        self.done = np.full(shape, np.inf)
        self.failed = np.full(shape, np.inf)
        self.active = np.isfinite(self.ready) & (self.ready < situation.horizon)
        caps, count = situation.caps, len(fleet)
        self.max_concurrent = Slots(self.futures, caps.max_concurrent, weight, count)
        self.hourly = None
        if caps.per_hour:  # what the ring before has started counts
            self.hourly = Slots(self.futures, caps.per_hour, weight, caps.per_hour, before.hourly if before else None)
        self.sites = self._sites_with(dict.fromkeys(fleet.site.tolist(), caps.per_site) if caps.per_site else {})
        self.uplinks = self._sites_with(caps.uplinks)
        self.transfers = SiteTransfers(set(fleet.site.tolist()) & caps.uplinks.keys(), situation.horizon)

    def _sites_with(self, caps: Mapping[int, int]) -> list[tuple[Indices, Slots]]:
        """For each cap, the sites of the ring that have it and their places, a column for each future and site."""
        present = set(self.fleet.site.tolist())
        by_cap: dict[int, list[int]] = defaultdict(list)
        for site in sorted(present & caps.keys()):
            by_cap[caps[site]].append(site)
        return [
            (np.array(sites), Slots(self.futures * len(sites), cap, self.weight, len(self.fleet)))
            for cap, sites in by_cap.items()
        ]

    def play(self) -> None:
        """Go on until none is left, or none can go on."""
        for _ in range(_ROUNDS):
            if not self._round():
                return

    def _let_silent_come_back(self, shape: tuple[int, int]) -> None:
        silent = np.flatnonzero(self.fleet.silent)
        if len(silent) == 0:
            return
        size = (shape[0], len(silent))
        back = self.rng.random(size) * SILENT_DAYS * DAY
        back[self.rng.random(size) > SILENT_BACK] = np.inf
        self.ready[:, silent] = np.maximum(self.ready[:, silent], back)

    def _round(self) -> bool:
        """Every active device tries its next hours once; whether any is left."""
        rows, columns = np.nonzero(self.active)
        if len(rows) == 0:
            return False
        start, latest = self._next_hours(rows, columns)
        reachable = np.isfinite(start)
        self.active[rows[~reachable], columns[~reachable]] = False
        rows, columns = rows[reachable], columns[reachable]
        start, latest = start[reachable], latest[reachable]
        if len(rows) == 0:
            return False
        with_file = self._have_file(rows, columns, start)
        call, begun, end = self._draw(rows, columns, with_file)
        tries = Tries(
            rows=rows,
            start=start,
            latest=latest,
            call=call,
            begun=begun,
            end=end,
            interval=self.fleet.interval[columns],
            tie=self.rng.exponential(self.fleet.interval[columns]),
            calls_from=np.full(len(rows), -np.inf),
        )
        offered = self._under_caps(tries, self.fleet.site[columns])
        start = np.where(np.isfinite(tries.calls_from), tries.calls_from - call, start)
        called = offered & (start + call < latest)
        carried_out = called & (start + begun <= latest)
        fetching = called & ~with_file
        self.transfers.add(
            self.fleet.site[columns][fetching],
            (start + call)[fetching],
            (start + begun)[fetching],
            self.weight / self.futures,
        )
        self._settle(rows, columns, carried_out, start + end)
        later = ~carried_out
        # a fetch that ended too late is tried anew after a pause; who never checked in, as soon as the hours open again
        again = np.where(called, start + begun + FIRST_PAUSE, latest)
        self.ready[rows[later], columns[later]] = again[later]
        return True

    def _under_caps(self, tries: Tries, sites: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Let the tries through the caps that bind, first those of their site; who got a place. The moments of their
        calls are put into `calls_from`."""
        offered = np.ones(len(tries.rows), dtype=bool)
        for kept, files_only in ((self.uplinks, True), (self.sites, False)):
            for those, places in kept:
                chosen = np.flatnonzero(offered & np.isin(sites, those))
                column = tries.rows[chosen] * len(those) + np.searchsorted(those, sites[chosen])
                by_column = np.argsort(column, kind="stable")
                self._through(tries, offered, chosen[by_column], column[by_column], places, files_only=files_only)
        chosen = np.flatnonzero(offered)
        self._through(tries, offered, chosen, tries.rows[chosen], self.max_concurrent, hourly=self.hourly)
        return offered

    def _through(
        self,
        tries: Tries,
        offered: NDArray[np.bool_],
        chosen: Indices,
        columns: Indices,
        places: Slots,
        *,
        files_only: bool = False,
        hourly: Slots | None = None,
    ) -> None:
        if len(chosen) == 0:
            return
        most = np.bincount(columns).max()
        if most <= len(places) and hourly is None:
            return
        s = self.s
        passed = queue(
            tries,
            chosen,
            columns,
            places,
            files_only=files_only,
            soak=s.soak,
            turn=s.turn,
            rng=self.rng,
            hourly=hourly,
        )
        offered[chosen] = passed.offered[chosen]
        tries.calls_from[chosen] = passed.call_at[chosen]

    def _next_hours(self, rows: Indices, columns: Indices) -> tuple[Floats, Floats]:
        """When each may begin next, its place in the spread minded, and until when it may."""
        ready = self.ready[rows, columns]
        start, latest, opening = np.empty(len(rows)), np.empty(len(rows)), np.empty(len(rows))
        kinds = self.fleet.hours_of[columns]
        for kind in np.unique(kinds):
            mine = kinds == kind
            start[mine], latest[mine], opening[mine] = next_in(self.s.hours[kind], ready[mine])
        if self.s.spread <= 0:
            return start, latest
        begins = np.maximum(opening, self.spread_from[rows])
        with np.errstate(invalid="ignore"):
            length = np.minimum(self.s.spread, np.maximum(0.0, latest - begins) * MAX_WINDOW_SHARE)
            start = np.where(np.isfinite(start), np.maximum(start, begins + self.fleet.place[columns] * length), start)
        return start, latest

    def _have_file(self, rows: Indices, columns: Indices, start: Floats) -> NDArray[np.bool_]:
        """Whose file is there when the hours open: it was, or there was time for a call and the fetch before."""
        if not self.s.prefetch:
            return self.fleet.with_file[columns]
        time_for_it = self.fleet.interval[columns] + FETCH_FACTORS[1] * self.s.fetch
        ahead: NDArray[np.bool_] = start - self.ready[rows, columns] > time_for_it
        return (ahead & self.fleet.able_ahead[columns]) | self.fleet.with_file[columns]

    def _draw(self, rows: Indices, columns: Indices, with_file: NDArray[np.bool_]) -> tuple[Floats, Floats, Floats]:
        """Seconds from the offer to the call, to the install's begin, to its end."""
        rng, s, size = self.rng, self.s, len(rows)
        call = rng.random(size) * self.fleet.interval[columns]
        fetch = _seen_or(rng, s.fetches, s.fetch, FETCH_FACTORS, size) * self.pace[rows]
        begun = call + np.where(with_file, 0.0, fetch)
        return call, begun, begun + _seen_or(rng, s.installs, s.minutes * 60, INSTALL_FACTORS, size) * self.pace[rows]

    def _settle(self, rows: Indices, columns: Indices, chosen: NDArray[np.bool_], end: Floats) -> None:
        """What became of the installs that were carried out: confirmed, a step further, tried again or failed."""
        rows, columns, end = rows[chosen], columns[chosen], end[chosen]
        bad = self.rng.random(len(rows)) < self.rates[rows]
        r, c, e = rows[bad], columns[bad], end[bad]
        self.attempts[r, c] -= 1
        used = self.s.max_attempts - self.attempts[r, c]
        lost = self.attempts[r, c] <= 0
        self.failed[r[lost], c[lost]] = e[lost]
        self.active[r[lost], c[lost]] = False
        self.ready[r[~lost], c[~lost]] = (e + FIRST_PAUSE * 2.0 ** np.clip(used - 1, 0, 5))[~lost]
        r, c = rows[~bad], columns[~bad]
        e = end[~bad] + self._soak(c)
        self.steps[r, c] -= 1
        last = self.steps[r, c] <= 0
        self.done[r[last], c[last]] = e[last]
        self.active[r[last], c[last]] = False
        self.ready[r[~last], c[~last]] = e[~last]

    def _soak(self, columns: Indices) -> Floats:
        """How long until good health was reported for the image's soak: devices call meanwhile."""
        soak = self.s.soak
        if soak <= 0:
            return np.zeros(len(columns))
        step = np.minimum(self.fleet.interval[columns], soak)
        return np.ceil(soak / step - 1e-9) * step


def next_in(hours: Hours, moments: Floats) -> tuple[Floats, Floats, Floats]:
    """The first moment from `moments` on that lies in the hours, when those hours end, and when they began; infinity
    for none."""
    place = np.searchsorted(hours[:, 1], moments, side="right")
    inside = place < len(hours)
    at = np.minimum(place, max(0, len(hours) - 1))
    if len(hours) == 0:
        nothing = np.full(moments.shape, np.inf)
        return nothing, nothing, nothing
    return (
        np.where(inside, np.maximum(hours[at, 0], moments), np.inf),
        np.where(inside, hours[at, 1], np.inf),
        np.where(inside, hours[at, 0], np.inf),
    )


def _seen_or(
    rng: np.random.Generator, seen: Sequence[float], usual: float, factors: tuple[float, float], size: int
) -> Floats:
    """Drawn from what was seen, or about what is usual while too little was seen."""
    if len(seen) >= ENOUGH_SEEN:
        return rng.choice(np.asarray(seen, dtype=np.float64), size)
    return usual * rng.uniform(*factors, size)
