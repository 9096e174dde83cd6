"""Simulated futures of a rollout, all at once: one row a future, one column a device."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.special import betainc

from herald_core.forecast.situation import DAY, Fleet, Floats, Hours, Situation
from herald_core.rings.gates import HALT_CERTAINTY, MIN_FAILURES

FUTURES = 200
POINTS = 120  # of the curve
#: more devices than these are stood for by a sample, and caps shrink with it
MOST_DEVICES = 900
LEAST_A_RING = 100
#: an install takes this much of the image's minutes, a fetch of what it takes on average, while too few were seen
INSTALL_FACTORS = (0.5, 1.2)
FETCH_FACTORS = (0.4, 1.6)
ENOUGH_SEEN = 12
#: before anything was tried: two failures of a hundred attempts, believed as much as twenty-five attempts
PRIOR = (0.5, 24.5)
FIRST_PAUSE = 600.0
#: half of the silent devices come back, at any time within so many days
SILENT_BACK = 0.5
SILENT_DAYS = 10.0
_ROUNDS = 400


@dataclass(frozen=True, kw_only=True)
class Band:
    """Median and the 80 % band."""

    low: float
    median: float
    high: float


@dataclass(frozen=True, kw_only=True)
class RingForecast:
    """When a ring opens and when the gate after it is met, in seconds from now; infinity for not within the horizon."""

    opens: Band
    through: Band


@dataclass(frozen=True, kw_only=True)
class Forecast:
    """What the futures say. `ends` are seconds from now, one a future; infinity where it does not end by itself.

    `curve` rows are the moments, and low, median and high of how many are confirmed then; those that were confirmed
    before now are counted in.
    """

    ends: Floats
    end: Band
    rings: Sequence[RingForecast]
    curve: Sequence[tuple[float, float, float, float]]
    halts: float
    failed: Band
    limits: Mapping[str, float]


def forecast(
    situation: Situation, *, seed: int, futures: int = FUTURES, relaxed: Mapping[str, Situation] | None = None
) -> Forecast:
    """Simulate futures of a rollout. `relaxed` are the same rollout without one of its limits: `limits` says how many
    seconds earlier the median end of each would be."""
    run = _Run(situation, futures, np.random.default_rng(seed))
    run.play()
    limits = {}
    for name, without in (relaxed or {}).items():
        other = _Run(without, max(20, futures // 8), np.random.default_rng(seed))
        other.play()
        limits[name] = float(max(0.0, _finite(float(np.median(run.ends)) - float(np.median(other.ends)))))
    return Forecast(
        ends=run.ends,
        end=_band(run.ends),
        rings=[RingForecast(opens=_band(o), through=_band(t)) for o, t in zip(run.opens, run.through, strict=True)],
        curve=run.curve(),
        halts=float(np.mean(run.halted)),
        failed=_band(run.failed),
        limits=limits,
    )


def _finite(value: float) -> float:
    return 0.0 if np.isnan(value) or np.isinf(value) else float(value)


def _band(values: Floats) -> Band:
    low, median, high = np.quantile(values, [0.1, 0.5, 0.9], method="closest_observation")
    return Band(low=float(low), median=float(median), high=float(high))


class _Run:
    """One set of futures."""

    def __init__(self, situation: Situation, futures: int, rng: np.random.Generator) -> None:
        self.s = situation
        self.futures = futures
        self.rng = rng
        self.rate = self._rates()
        self.ends: Floats = np.zeros(futures)
        self.opens: list[Floats] = []
        self.through: list[Floats] = []
        self.halted = np.zeros(futures, dtype=bool)
        self.failed: Floats = np.full(futures, float(sum(r.failed for r in situation.rings)))
        self._confirmed: list[tuple[Floats, float]] = []  # times by future, and how many devices each stands for

    def _rates(self) -> Floats:
        if self.s.failure_rate is not None:
            return np.full(self.futures, float(self.s.failure_rate))
        failed, tried = self.s.failed_attempts, self.s.tried_attempts
        rates: Floats = self.rng.beta(PRIOR[0] + failed, PRIOR[1] + max(0, tried - failed), self.futures)
        return rates

    def play(self) -> None:
        """Ring after ring: each opens when the gate before it is met."""
        opens: Floats = np.zeros(self.futures)
        for index, ring in enumerate(self.s.rings):
            self.opens.append(np.where(self.halted, np.inf, opens))
            fleet = self.s.fleet.take(np.flatnonzero(self.s.fleet.ring == index))
            fleet, done, failed, weight = self._ring(fleet, opens)
            self._confirmed.append((done, weight))
            self._halt(done, failed, ring.confirmed, ring.failed, weight)
            self.ends = np.maximum(self.ends, _ended(fleet, done, failed))
            self.failed += weight * np.isfinite(failed).sum(axis=1)
            opens = self._gate(index, opens, done, round(len(fleet) * weight), weight)
            self.through.append(np.where(self.halted, np.inf, opens))
        self.ends = np.where(self.halted, np.inf, np.where(self.ends > self.s.horizon, np.inf, self.ends))

    def _gate(self, index: int, opened: Floats, done: Floats, left: int, weight: float) -> Floats:
        """When the gate after a ring is met."""
        ring = self.s.rings[index]
        if ring.met:
            return np.zeros(self.futures)
        in_play = ring.confirmed + ring.failed + left
        missing = int(np.ceil(ring.share * in_play - 1e-9)) - ring.confirmed
        if missing <= 0:
            reached = opened - (ring.share_reached or 0.0)
        elif left == 0 or missing > left:
            return np.full(self.futures, np.inf)
        else:
            place = min(done.shape[1] - 1, int(np.ceil(missing / weight)) - 1)
            reached = np.partition(done, place, axis=1)[:, place]
        met: Floats = np.maximum(opened, reached + ring.soak)
        if ring.needs_approval and self.s.working is not None:
            met = _next_in(self.s.working, met)[0]
        return met

    def _halt(self, done: Floats, failed: Floats, confirmed: int, failed_before: int, weight: float) -> None:
        """Mark the futures in which the failures of a ring halt the rollout, by the rule of the gates."""
        if done.shape[1] == 0 or not np.isfinite(failed).any():
            return
        times = np.sort(failed, axis=1)
        most = int(np.isfinite(times).sum(axis=1).max())
        times = times[:, :most]
        so_far = np.arange(1, most + 1)[None, :] * weight + failed_before
        ok = np.array([np.searchsorted(np.sort(d), t, side="right") for d, t in zip(done, times, strict=True)])
        tried = so_far + ok * weight + confirmed
        certain = 1 - betainc(0.5 + so_far, 0.5 + tried - so_far, self.s.failure_limit)
        halts = np.isfinite(times) & (so_far >= MIN_FAILURES) & (certain >= HALT_CERTAINTY)
        self.halted |= halts.any(axis=1)

    def _ring(self, fleet: Fleet, opens: Floats) -> tuple[Fleet, Floats, Floats, float]:
        """The devices that stand for a ring, when each is confirmed and when it has failed for good (infinity for
        never), and how many devices each stands for."""
        count = len(fleet)
        share = max(LEAST_A_RING, MOST_DEVICES * count / max(1, len(self.s.fleet)))
        weight = 1.0
        if count > share and len(self.s.fleet) > MOST_DEVICES:
            chosen = self.rng.choice(count, int(share), replace=False)
            weight, fleet = count / int(share), fleet.take(chosen)
        state = _Devices(self, fleet, opens, max(1, round(self.s.at_once / weight)))
        for _ in range(_ROUNDS):
            if not state.round():
                break
        return fleet, state.done, state.failed, weight

    def curve(self) -> list[tuple[float, float, float, float]]:
        """How many are confirmed at moments up to a little after the end."""
        before = sum(r.confirmed for r in self.s.rings)
        ends = self.ends[np.isfinite(self.ends)]
        last = float(np.quantile(ends, 0.9)) * 1.05 if len(ends) else self.s.horizon
        grid = np.linspace(0.0, max(60.0, last), POINTS)
        total = np.full((self.futures, POINTS), float(before))
        for done, weight in self._confirmed:
            placed = np.searchsorted(grid, np.minimum(done, grid[-1] * 2), side="left")
            rows = np.arange(self.futures)[:, None] * (POINTS + 1)
            hits = np.bincount((rows + placed).ravel(), minlength=self.futures * (POINTS + 1))
            total += weight * hits.reshape(self.futures, POINTS + 1).cumsum(axis=1)[:, :POINTS]
        low, median, high = np.quantile(total, [0.1, 0.5, 0.9], axis=0)
        return [tuple(map(float, row)) for row in zip(grid, low, median, high, strict=True)]  # type: ignore[misc]


def _ended(fleet: Fleet, done: Floats, failed: Floats) -> Floats:
    """When the last device that is heard of is through; infinity where one is not. Silent ones are not waited for."""
    through: Floats = np.minimum(done, failed)[:, ~fleet.silent]
    latest: Floats = np.max(through, axis=1, initial=0.0)
    return latest


def _next_in(hours: Hours, moments: Floats) -> tuple[Floats, Floats]:
    """The first moment from `moments` on that lies in the hours, and when those hours end; infinity for none."""
    place = np.searchsorted(hours[:, 1], moments, side="right")
    inside = place < len(hours)
    at = np.minimum(place, max(0, len(hours) - 1))
    if len(hours) == 0:
        nothing = np.full(moments.shape, np.inf)
        return nothing, nothing
    return (
        np.where(inside, np.maximum(hours[at, 0], moments), np.inf),
        np.where(inside, hours[at, 1], np.inf),
    )


class _Devices:
    """The devices of one ring in all futures, going from one opening of their hours to the next."""

    def __init__(self, run: _Run, fleet: Fleet, opens: Floats, at_once: int) -> None:
        self.run, self.fleet, self.at_once = run, fleet, min(at_once, max(1, len(fleet)))
        shape = (run.futures, len(fleet))
        self.ready = np.maximum(fleet.ready[None, :], opens[:, None]).astype(np.float64)
        self._let_silent_come_back(shape)
        self.steps = np.broadcast_to(fleet.steps, shape).copy()
        self.attempts = np.broadcast_to(fleet.attempts, shape).copy()
        self.done = np.full(shape, np.inf)
        self.failed = np.full(shape, np.inf)
        self.slots = np.zeros((run.futures, self.at_once))
        self.active = np.isfinite(self.ready) & (self.ready < run.s.horizon)

    def _let_silent_come_back(self, shape: tuple[int, int]) -> None:
        silent = np.flatnonzero(self.fleet.silent)
        if len(silent) == 0:
            return
        rng, size = self.run.rng, (shape[0], len(silent))
        back = rng.random(size) * SILENT_DAYS * DAY
        back[rng.random(size) > SILENT_BACK] = np.inf
        self.ready[:, silent] = np.maximum(self.ready[:, silent], back)

    def round(self) -> bool:
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
        call, begun, end = self._draw(columns, len(rows), self._have_file(rows, columns, start))
        most = np.bincount(rows, minlength=self.run.futures).max()
        if most > self.at_once:
            start, offered = self._queue(rows, start, latest, call, begun, end, self.fleet.interval[columns])
        else:
            offered = np.ones(len(rows), dtype=bool)
        called = offered & (start + call < latest)
        carried_out = called & (start + begun <= latest)
        self._settle(rows, columns, carried_out, start + end)
        later = ~carried_out
        # a fetch that ended too late is tried anew after a pause; who never called, as soon as the hours open again
        again = np.where(called, start + begun + FIRST_PAUSE, latest)
        self.ready[rows[later], columns[later]] = again[later]
        return True

    def _next_hours(self, rows: NDArray[np.intp], columns: NDArray[np.intp]) -> tuple[Floats, Floats]:
        ready = self.ready[rows, columns]
        start, latest = np.empty(len(rows)), np.empty(len(rows))
        kinds = self.fleet.hours_of[columns]
        for kind in np.unique(kinds):
            mine = kinds == kind
            start[mine], latest[mine] = _next_in(self.run.s.hours[kind], ready[mine])
        return start, latest

    def _have_file(self, rows: NDArray[np.intp], columns: NDArray[np.intp], start: Floats) -> NDArray[np.bool_]:
        """Whose file is there when the hours open: it was, or there was time for a call and the fetch before."""
        if not self.run.s.stage_ahead:
            return self.fleet.with_file[columns]
        time_for_it = self.fleet.interval[columns] + FETCH_FACTORS[1] * self.run.s.fetch
        ahead: NDArray[np.bool_] = start - self.ready[rows, columns] > time_for_it
        return (ahead & self.fleet.able_ahead[columns]) | self.fleet.with_file[columns]

    def _draw(
        self, columns: NDArray[np.intp], size: int, with_file: NDArray[np.bool_]
    ) -> tuple[Floats, Floats, Floats]:
        """Seconds from the offer to the call, to the install's begin, to its end."""
        rng, s = self.run.rng, self.run.s
        call = rng.random(size) * self.fleet.interval[columns]
        begun = call + np.where(with_file, 0.0, _seen_or(rng, s.fetches, s.fetch, FETCH_FACTORS, size))
        return call, begun, begun + _seen_or(rng, s.installs, s.minutes * 60, INSTALL_FACTORS, size)

    def _queue(
        self,
        rows: NDArray[np.intp],
        start: Floats,
        latest: Floats,
        call: Floats,
        begun: Floats,
        end: Floats,
        interval: Floats,
    ) -> tuple[Floats, NDArray[np.bool_]]:
        """Let at most `at_once` devices of a future be at it together, in the order in which they may begin."""
        futures, slots_of = self.run.futures, self.at_once
        order = np.lexsort((self.run.rng.random(len(rows)), start, rows))
        counts = np.bincount(rows, minlength=futures)
        first = np.cumsum(counts) - counts
        place = np.arange(len(rows)) - first[rows[order]]
        width = int(counts.max())
        grid = np.full((futures, width), -1, dtype=np.intp)
        grid[rows[order], place] = order
        last = np.full(futures, -np.inf)
        slots = self.slots  # kept from round to round: tries anew compete with those that still wait
        begin = start.copy()
        offered = np.zeros(len(rows), dtype=bool)
        for left in range(0, width, slots_of):
            mine = grid[:, left : left + slots_of]
            there = mine >= 0
            pick = np.where(there, mine, 0)
            # of those that wait, the one that is to call next is offered first: the least of so many waits
            waiting = np.maximum(1, counts[:, None] - left - np.arange(mine.shape[1])[None, :])
            share = 1.0 - (1.0 - call[pick] / interval[pick]) ** (1.0 / waiting)
            at = np.maximum(start[pick], slots[:, : mine.shape[1]] + self.run.rng.random(mine.shape) * self.run.s.turn)
            wait, last = _waits(at, interval[pick], share, last)
            sooner = call[pick] - wait
            fits = there & (at < latest[pick])
            if not fits.any():
                continue
            carried = (at + wait < latest[pick]) & (at + begun[pick] - sooner <= latest[pick])
            missed = np.where(at + wait < latest[pick], at + begun[pick] - sooner, latest[pick])
            ends = np.where(carried, at + end[pick] - sooner + self.run.s.soak, missed)
            begin[mine[fits]] = (at - sooner)[fits]
            offered[mine[fits]] = True
            slots[:, : mine.shape[1]] = np.where(fits, ends, slots[:, : mine.shape[1]])
            slots.sort(axis=1)
        return begin, offered

    def _settle(
        self, rows: NDArray[np.intp], columns: NDArray[np.intp], chosen: NDArray[np.bool_], end: Floats
    ) -> None:
        """What became of the installs that were carried out: confirmed, a step further, tried again or failed."""
        rows, columns, end = rows[chosen], columns[chosen], end[chosen]
        bad = self.run.rng.random(len(rows)) < self.run.rate[rows]
        r, c, e = rows[bad], columns[bad], end[bad]
        self.attempts[r, c] -= 1
        used = self.run.s.max_attempts - self.attempts[r, c]
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

    def _soak(self, columns: NDArray[np.intp]) -> Floats:
        """How long until good health was reported for the image's soak: devices call meanwhile."""
        soak = self.run.s.soak
        if soak <= 0:
            return np.zeros(len(columns))
        step = np.minimum(self.fleet.interval[columns], soak)
        return np.ceil(soak / step - 1e-9) * step


def _waits(at: Floats, interval: Floats, share: Floats, last: Floats) -> tuple[Floats, Floats]:
    """How long each slot waits for a call, the slots in the order in which they became free, and the last call.

    The device that is to call next gets the slot: its call is the least of the calls of those that wait, all of which
    come after the call that the slot before it waits for. `share` is that least one of calls between 0 and 1.
    """
    wait = np.empty_like(at)
    for column in range(at.shape[1]):
        ahead = np.clip(last - at[:, column], 0.0, interval[:, column])
        wait[:, column] = ahead + (interval[:, column] - ahead) * share[:, column]
        last = np.maximum(last, at[:, column] + wait[:, column])
    return wait, last


def _seen_or(
    rng: np.random.Generator, seen: Sequence[float], usual: float, factors: tuple[float, float], size: int
) -> Floats:
    """Drawn from what was seen, or about what is usual while too little was seen."""
    if len(seen) >= ENOUGH_SEEN:
        return rng.choice(np.asarray(seen, dtype=np.float64), size)
    return usual * rng.uniform(*factors, size)


def without(situation: Situation, *, hours: Sequence[Hours] | None = None, **changes: object) -> Situation:
    """The situation without one of its limits."""
    if hours is not None:
        changes["hours"] = hours
    return replace(situation, **changes)  # type: ignore[arg-type]
