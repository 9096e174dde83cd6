"""Simulated futures of a rollout, all at once: one row a future, one column a device."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

import numpy as np
from scipy.special import betainc

from herald_core.forecast.devices import RingDevices, next_in
from herald_core.forecast.inputs import Fleet, Floats, ForecastInputs, Hours, Limit
from herald_core.rings.gates import HALT_CERTAINTY, MIN_FAILURES

FUTURES = 200
POINTS = 120  # of the curve
#: more devices than these are stood for by a sample, and caps shrink with it
MOST_DEVICES = 400
LEAST_A_RING = 50
#: before anything was tried: two failures of a hundred attempts, believed as much as twenty-five attempts
PRIOR = (0.5, 24.5)
#: how well the times that fetches and installs take are known: futures differ in them by so much (log scale)
PACE = 0.06
#: the quantiles of the 80% band and the median. Simulated rollouts differ a little more than these futures do, so the
#: band takes in 86% of the futures to hold four of five rollouts (`bench forecast`).
BAND = (0.07, 0.5, 0.93)


@dataclass(frozen=True, kw_only=True)
class QuantileBand:
    """Median and the 80% band, in seconds from now where it is of moments."""

    low: float
    median: float
    high: float

    def moments(self, now: datetime) -> dict[str, datetime | None]:
        """The moments of the band by their names; None where it is never reached."""
        return {
            name: now + timedelta(seconds=seconds) if np.isfinite(seconds) else None
            for name, seconds in (("low", self.low), ("median", self.median), ("high", self.high))
        }


@dataclass(frozen=True, kw_only=True)
class RingForecast:
    """When a ring opens and when the gate after it is met, in seconds from now; infinity for not within the horizon."""

    opens: QuantileBand
    through: QuantileBand


@dataclass(frozen=True, kw_only=True)
class Forecast:
    """What the futures say. `ends` are seconds from now, one a future; infinity where it does not end by itself.

    `curve` rows are the moments, and low, median and high of how many are confirmed then; those that were confirmed
    before now are counted in. `transfers` are how many files sites whose uplinks are narrow have coming at once, in the
    mean of each hour from now on.
    """

    ends: Floats
    end: QuantileBand
    rings: Sequence[RingForecast]
    curve: Sequence[tuple[float, float, float, float]]
    halts: float
    failed: QuantileBand
    limits: Mapping[Limit, float]
    transfers: Mapping[int, Floats]


def forecast(
    situation: ForecastInputs,
    *,
    seed: int,
    futures: int = FUTURES,
    relaxed: Mapping[Limit, ForecastInputs] | None = None,
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
        transfers=run.transfers,
    )


def _finite(value: float) -> float:
    return 0.0 if np.isnan(value) or np.isinf(value) else float(value)


def _band(values: Floats) -> QuantileBand:
    low, median, high = np.quantile(values, BAND, method="closest_observation")
    return QuantileBand(low=float(low), median=float(median), high=float(high))


class _Run:
    """One set of futures."""

    def __init__(self, situation: ForecastInputs, futures: int, rng: np.random.Generator) -> None:
        self.s = situation
        self.futures = futures
        self.rng = rng
        self.rate = self._rates()
        self.pace: Floats = rng.lognormal(0.0, PACE, futures)
        self.ends: Floats = np.zeros(futures)
        self.opens: list[Floats] = []
        self.through: list[Floats] = []
        self.halted = np.zeros(futures, dtype=bool)
        self.failed: Floats = np.full(futures, float(sum(r.failed for r in situation.rings)))
        self.transfers: dict[int, Floats] = {}
        self._ring_before: RingDevices | None = None
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
            fleet, done, failed, weight = self._ring(fleet, opens, ring.opened)
            self._confirmed.append((done, weight))
            self._halt(done, failed, ring.confirmed, ring.failed, weight)
            self.ends = np.maximum(self.ends, _ended(fleet, done, failed))
            self.failed += weight * np.isfinite(failed).sum(axis=1)
            opens = self._gate(index, opens, done, failed, weight)
            self.through.append(np.where(self.halted, np.inf, opens))
        self.ends = np.where(self.halted, np.inf, np.where(self.ends > self.s.horizon, np.inf, self.ends))

    def _gate(self, index: int, opened: Floats, done: Floats, failed: Floats, weight: float) -> Floats:
        """When the gate after a ring is met."""
        ring = self.s.rings[index]
        if ring.met:
            return np.zeros(self.futures)
        left = round(done.shape[1] * weight)
        in_play = ring.confirmed + ring.failed + left
        missing = int(np.ceil(ring.share * in_play - 1e-9)) - ring.confirmed
        if missing <= 0:
            reached = opened - (ring.share_reached or 0.0)
        elif left == 0 or missing > left:
            return np.full(self.futures, np.inf)
        else:
            reached = _when(done, missing, weight)
        met: Floats = np.maximum(opened, reached + ring.soak)
        if ring.max_unreached is not None and left > ring.max_unreached:
            heard = np.minimum(np.minimum(done, failed), self.s.horizon)  # at the latest it expires
            met = np.maximum(met, _when(heard, left - ring.max_unreached, weight))
        untried = ring.min_tried - ring.confirmed - ring.failed
        if untried > 0:
            if untried > left:
                return np.full(self.futures, np.inf)  # it waits for a person
            met = np.maximum(met, _when(np.minimum(done, failed), untried, weight))
        if ring.needs_approval and self.s.working is not None:
            met = next_in(self.s.working, met)[0]
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

    def _ring(self, fleet: Fleet, opens: Floats, opened: float) -> tuple[Fleet, Floats, Floats, float]:
        """The devices that stand for a ring, when each is confirmed and when it has failed for good (infinity for
        never), and how many devices each stands for."""
        count = len(fleet)
        share = max(LEAST_A_RING, MOST_DEVICES * count / max(1, len(self.s.fleet)))
        weight = 1.0
        if count > share and len(self.s.fleet) > MOST_DEVICES:
            chosen = self.rng.choice(count, int(share), replace=False)
            weight, fleet = count / int(share), fleet.take(chosen)
        devices = RingDevices(
            self.s,
            fleet,
            opens,
            opened=opened,
            rates=self.rate,
            pace=self.pace,
            weight=weight,
            rng=self.rng,
            before=self._ring_before,
        )
        devices.play()
        self._ring_before = devices
        for site, at_once in devices.transfers.by_site().items():
            self.transfers[site] = self.transfers.get(site, 0.0) + at_once
        return fleet, devices.done, devices.failed, weight

    def curve(self) -> list[tuple[float, float, float, float]]:
        """How many are confirmed at moments up to a little after the end."""
        before = sum(r.confirmed for r in self.s.rings)
        ends = self.ends[np.isfinite(self.ends)]
        last = float(np.quantile(ends, BAND[2])) * 1.05 if len(ends) else self.s.horizon
        grid = np.linspace(0.0, max(60.0, last), POINTS)
        total = np.full((self.futures, POINTS), float(before))
        for done, weight in self._confirmed:
            placed = np.searchsorted(grid, np.minimum(done, grid[-1] * 2), side="left")
            rows = np.arange(self.futures)[:, None] * (POINTS + 1)
            hits = np.bincount((rows + placed).ravel(), minlength=self.futures * (POINTS + 1))
            total += weight * hits.reshape(self.futures, POINTS + 1).cumsum(axis=1)[:, :POINTS]
        low, median, high = np.quantile(total, BAND, axis=0)
        return [tuple(map(float, row)) for row in zip(grid, low, median, high, strict=True)]  # type: ignore[misc]


def _when(times: Floats, count: int, weight: float) -> Floats:
    """When so many devices have come to it, where each stands for `weight` of them."""
    place = min(times.shape[1] - 1, int(np.ceil(count / weight)) - 1)
    found: Floats = np.partition(times, place, axis=1)[:, place]
    return found


def _ended(fleet: Fleet, done: Floats, failed: Floats) -> Floats:
    """When the last device that is heard of is through; infinity where one is not. Silent ones are not waited for."""
    through: Floats = np.minimum(done, failed)[:, ~fleet.silent]
    latest: Floats = np.max(through, axis=1, initial=0.0)
    return latest


def without(situation: ForecastInputs, *, hours: Sequence[Hours] | None = None, **changes: object) -> ForecastInputs:
    """The situation without one of its limits."""
    if hours is not None:
        changes["hours"] = hours
    return replace(situation, **changes)  # type: ignore[arg-type]
