"""Caps in simulated futures: places that devices take one after another, in all futures at once."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from herald_core.forecast.inputs import Floats

Indices = NDArray[np.intp]
HOUR = 3600.0
#: how much the waits of one fleet differ from those of another with the same intervals, as its calls lie (log scale);
#: fitted to simulated calls
WAITS_DIFFER = 0.25
#: among more places than these it hardly matters who was passed over
PASSED_OVER_PLACES = 20


@dataclass(frozen=True, kw_only=True)
class Tries:
    """Devices that try the same hours, one element for each device and future (`rows` are the futures).

    `start` is when the device may begin and `latest` when its offer ends; `call`, `begun` and `end` are seconds from
    the offer to the call, to the install's begin and to its end. `tie` decides who of those that may begin at the same
    time comes first: who calls often is mostly the one to call next. `calls_from` is the moment of its call where a
    cap of its site has settled it, else -infinity.
    """

    rows: Indices
    start: Floats
    latest: Floats
    call: Floats
    begun: Floats
    end: Floats
    interval: Floats
    tie: Floats
    calls_from: Floats


class Slots:
    """The places under one cap, a column a future or a site of it.

    Where each device stands for several (`weight`), there are fewer places, and each is taken for so much longer that
    as many get through.
    """

    def __init__(self, columns: int, cap: int, weight: float, most: int, before: "Slots | None" = None) -> None:
        places = max(1, round(cap / weight))
        self.longer = weight * places / cap
        places = max(1, min(places, most))
        self.free: Floats = np.zeros((places, columns))
        if before is not None:  # of as many places as there are now, those that become free last
            missing = max(0, places - len(before))
            self.free[missing:] = before.free[np.linspace(0, len(before) - 1, places - missing).round().astype(int)]

    def __len__(self) -> int:
        return len(self.free)

    @property
    def columns(self) -> int:
        return int(self.free.shape[1])

    def take(self, there: NDArray[np.bool_], until: Floats) -> None:
        """Of the places that become free first, take those that are wanted until these moments."""
        first = self.free[: len(until)]
        self.free[: len(until)] = np.where(there, until, first)
        self.free.sort(axis=0)


@dataclass(frozen=True, kw_only=True)
class Passed:
    """What a queue says of the tries that went through it: whether each got a place, and when it calls then."""

    offered: NDArray[np.bool_]
    call_at: Floats


def queue(
    tries: Tries,
    chosen: Indices,
    columns: Indices,
    places: Slots,
    *,
    files_only: bool,
    soak: float,
    turn: float,
    rng: np.random.Generator,
    hourly: Slots | None = None,
) -> Passed:
    """Let the chosen tries through, as many of each column (a future, or a site of it; ascending) at a time as there
    are places, in the order in which they may begin.

    A place is taken until the file is there (`files_only`) or until the device is through; of `hourly` ones for an
    hour. A free place is offered anew within `turn` seconds.
    """
    together = min(len(places), len(hourly)) if hourly is not None else len(places)
    held_for = tries.begun if files_only else tries.end + soak
    by_the_hour = hourly is not None and len(hourly) <= len(places)
    order = _in_turn(
        tries, chosen, columns, places.columns, together, HOUR if by_the_hour else float(held_for[chosen].mean())
    )
    there, pick = order >= 0, np.maximum(order, 0)
    start, latest, interval = tries.start[pick], tries.latest[pick], tries.interval[pick]
    call, begun, held, calls_from = tries.call[pick], tries.begun[pick], held_for[pick], tries.calls_from[pick]
    waits = _Waits(start, interval, call, there, rng, len(places))
    fits, call_at = np.zeros(order.shape, dtype=bool), np.empty(order.shape)
    for left in range(0, len(order), together):
        now = slice(left, left + together)
        at = np.maximum(start[now], places.free[: len(start[now])] + rng.random(start[now].shape) * turn)
        if hourly is not None:
            at = np.maximum(at, hourly.free[: len(at)])
        wait = np.maximum(waits.of(now, at), 0.0)
        called = np.where(calls_from[now] > at, calls_from[now], at + wait)
        fits[now], call_at[now] = there[now] & (at < latest[now]), called
        if not fits[now].any():
            continue
        comes = called < latest[now]
        installs = called + begun[now] - call[now]
        until = np.where(comes & (installs <= latest[now]), called + held[now] - call[now], installs)
        until = np.where(comes, until, latest[now])
        places.take(fits[now], at + (until - at) * places.longer)
        if hourly is not None:
            hourly.take(fits[now], at + HOUR * hourly.longer)
    passed = Passed(offered=np.zeros(len(tries.rows), dtype=bool), call_at=np.full(len(tries.rows), -np.inf))
    passed.offered[order[fits]], passed.call_at[order[fits]] = True, call_at[fits]
    return passed


def _in_turn(tries: Tries, chosen: Indices, rows: Indices, futures: int, together: int, taken_for: float) -> Indices:
    """The chosen tries, by their columns, in the order in which they get a place; -1 for none. The first ones by when
    they may begin. Places become free after `taken_for` seconds; of those that may all begin by then, who is to call
    next comes first."""
    counts = np.bincount(rows, minlength=futures)
    places = np.arange(len(chosen)) - (np.cumsum(counts) - counts)[rows]
    grid = np.full((futures, int(counts.max())), -1, dtype=np.intp)
    start, tie = np.full(grid.shape, np.inf), np.full(grid.shape, np.inf)
    grid[rows, places], start[rows, places], tie[rows, places] = chosen, tries.start[chosen], tries.tie[chosen]
    begins = start.min(axis=1, keepdims=True)
    if (tries.start[chosen] == begins[rows, 0]).all():
        order = np.argsort(tie, axis=1)
    else:
        by_start = np.argsort(start + 1e-6 * np.minimum(tie, 1e9), axis=1)
        rank = np.empty_like(by_start)
        np.put_along_axis(rank, by_start, np.arange(grid.shape[1])[None, :], axis=1)
        with np.errstate(invalid="ignore"):
            rounds = np.maximum(1.0, np.ceil((start - begins) / taken_for))
        step = 10.0 * tries.tie[chosen].max() + 1.0
        order = np.argsort(np.where(rank < together, rank * step / together - step, rounds * step + tie), axis=1)
    return np.ascontiguousarray(np.take_along_axis(grid, order, axis=1).T)


class _Waits:
    """How long places wait for a call, a column a future, the places in the order in which they become free."""

    def __init__(
        self,
        start: Floats,
        interval: Floats,
        call: Floats,
        there: NDArray[np.bool_],
        rng: np.random.Generator,
        places: int,
    ) -> None:
        futures = start.shape[1]
        self._start, self._interval, self._places = start, interval, places
        self._left = np.log1p(-call / interval)
        self._lie = rng.lognormal(0.0, WAITS_DIFFER / np.sqrt(places), futures)
        # calls a second of those that are not through yet, from each one on
        often = np.where(there, 1.0 / interval, 0.0)
        self._often = np.zeros((len(start) + 1, futures))
        self._often[:-1] = np.cumsum(often[::-1], axis=0)[::-1]
        self._count = there.sum(axis=0)
        starts = np.maximum.accumulate(np.where(there, start, np.inf), axis=0)
        self._begun = None if (starts[0] == np.where(there, starts, starts[0])).all() else _Begun(starts.T)
        #: the offer before: when it was made, and the call that it waits for
        self._offered, self._call = np.full(futures, -np.inf), np.full(futures, -np.inf)

    def of(self, now: slice, at: Floats) -> Floats:
        """The waits of the places that are offered at these moments."""
        interval, row = self._interval[now], np.arange(now.start, now.start + len(at))[:, None]
        calls, until = self._often[now.start : now.start + len(at)], self._count[None, :]
        if self._begun is not None:  # who may not begin yet does not wait
            until = np.maximum(self._begun.count(at.T).T, row + 1)
            calls = calls - np.take_along_axis(self._often, until, axis=0)
        # of those that wait, the one that is to call next is offered first: the least of all their waits
        share = -np.expm1(self._left[now] / np.maximum(1.0, interval * calls))
        wait = self._one_after_another(now, at, interval, share)
        if self._places <= PASSED_OVER_PLACES:
            of_all = calls / np.maximum(self._often[:1], 1e-12)
            wait *= 1.0 + (_passed_over(of_all, until - row) - 1.0) / self._places
        waits: Floats = np.minimum(wait * self._lie, interval)
        return waits

    def _one_after_another(self, now: slice, at: Floats, interval: Floats, share: Floats) -> Floats:
        """The device that is to call next gets the place, so who waited when the offer before was made calls after that
        one's call. `share` is the call, between 0 and 1, of what is left of the interval then."""
        wait = np.empty_like(at)
        for place in range(len(at)):
            waited = self._start[now.start + place] <= self._offered
            ahead = np.where(waited, np.clip(self._call - at[place], 0.0, interval[place]), 0.0)
            wait[place] = ahead + (interval[place] - ahead) * share[place]
            self._offered, self._call = at[place], at[place] + wait[place]
        return wait


class _Begun:
    """How many of each row may begin at given moments; `starts` ascend in each row, infinity for none there."""

    def __init__(self, starts: Floats) -> None:
        finite = np.isfinite(starts)
        self._step = 2.0 * (1.0 + (starts[finite].max() if finite.any() else 0.0))
        self._rows = np.arange(len(starts))[:, None]
        self._width = starts.shape[1]
        self._flat = (np.where(finite, starts, self._step * 0.75) + self._rows * self._step).ravel()

    def count(self, moments: Floats) -> NDArray[np.intp]:
        wanted = np.minimum(moments, self._step * 0.5) + self._rows * self._step
        found = np.searchsorted(self._flat, wanted, side="right") - self._rows * self._width
        counted: NDArray[np.intp] = np.clip(found, 0, self._width)
        return counted


def _passed_over(left: Floats, remaining: NDArray[np.int_]) -> Floats:
    """How much longer than the least of independent waits a place waits, when this share of the calls is `left`.

    Devices call at fixed times, so who was passed over once is passed over again: taking the first call after random
    moments is inserting into a table by linear probing (Knuth, TAOCP 3, 6.4: (1 + r^2) / (2 r^2) probes at a free
    share r, against 1 / r), bounded as few remain; the bound was fitted to simulated calls at mixed intervals.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        probing = (1.0 + left**2) / (2.0 * left)
    return np.where(left > 0, np.minimum(probing, 1.0 + 0.13 * np.sqrt(np.maximum(remaining, 1))), 1.0)
