"""Caps in simulated futures: places that devices take one after another, in all futures at once."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from herald_core.forecast.situation import Floats

Indices = NDArray[np.intp]
HOUR = 3600.0
#: how much the waits of one fleet differ from those of another with the same intervals, as its calls lie (log scale);
#: fitted to simulated calls
WAITS_DIFFER = 0.25


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


class Places:
    """The places under one cap. Where each device stands for several (`weight`), there are fewer places, and each is
    taken for so much longer that as many get through."""

    def __init__(self, futures: int, cap: int, weight: float, most: int, before: "Places | None" = None) -> None:
        places = max(1, round(cap / weight))
        self.longer = weight * places / cap
        places = max(1, min(places, most))
        self.free: Floats = np.zeros((futures, places))
        if before is not None:  # of as many places as there are now, those that become free last
            missing = max(0, places - len(before))
            kept = before.free[:, np.linspace(0, len(before) - 1, places - missing).round().astype(int)]
            self.free[:, missing:] = kept

    def __len__(self) -> int:
        return int(self.free.shape[1])

    def take(self, there: NDArray[np.bool_], until: Floats) -> None:
        """Of the places that become free first, take those that are wanted until these moments."""
        first = self.free[:, : until.shape[1]]
        self.free[:, : until.shape[1]] = np.where(there, until, first)
        self.free.sort(axis=1)


@dataclass(frozen=True, kw_only=True)
class Passed:
    """What a queue says of the tries that went through it: whether each got a place, and when it calls then."""

    offered: NDArray[np.bool_]
    call_at: Floats


def queue(
    tries: Tries,
    chosen: Indices,
    places: Places,
    *,
    futures: int,
    files_only: bool,
    soak: float,
    turn: float,
    rng: np.random.Generator,
    hourly: Places | None = None,
) -> Passed:
    """Let the chosen tries through, as many of a future at a time as there are places, in the order in which they may
    begin. A place is taken until the file is there (`files_only`) or until the device is through; of `hourly` ones for
    an hour. A free place is offered anew within `turn` seconds."""
    held = tries.begun if files_only else tries.end + soak
    order = chosen[np.lexsort((tries.tie[chosen], tries.start[chosen], tries.rows[chosen]))]
    counts = np.bincount(tries.rows[chosen], minlength=futures)
    first = np.cumsum(counts) - counts
    place = np.arange(len(order)) - first[tries.rows[order]]
    grid = np.full((futures, int(counts.max())), -1, dtype=np.intp)
    grid[tries.rows[order], place] = order
    call_at = np.full(len(tries.rows), -np.inf)
    offered = np.zeros(len(tries.rows), dtype=bool)
    before = _Offer(np.full(futures, -np.inf), np.full(futures, -np.inf))
    lie = rng.lognormal(0.0, WAITS_DIFFER / np.sqrt(len(places)), (futures, 1))
    often = np.where(grid >= 0, 1.0 / tries.interval[np.maximum(grid, 0)], 0.0)
    # calls a second of those that are not through yet, from each one on
    waiting = np.cumsum(np.pad(often, ((0, 0), (0, 1)))[:, ::-1], axis=1)[:, ::-1]
    begun = _Begun(np.where(grid >= 0, tries.start[np.maximum(grid, 0)], np.inf))
    together = min(len(places), len(hourly)) if hourly is not None else len(places)
    for left in range(0, grid.shape[1], together):
        mine = grid[:, left : left + together]
        there, pick = mine >= 0, np.maximum(mine, 0)
        call, interval, latest = tries.call[pick], tries.interval[pick], tries.latest[pick]
        at = np.maximum(tries.start[pick], places.free[:, : mine.shape[1]] + rng.random(mine.shape) * turn)
        if hourly is not None:
            at = np.maximum(at, hourly.free[:, : mine.shape[1]])
        # of those that wait, the one that is to call next is offered first: the least of all their waits
        places_in_row = np.arange(left, left + mine.shape[1])[None, :]
        until = np.maximum(begun.count(at), places_in_row + 1)  # who may not begin yet does not wait
        calls = waiting[:, left : left + mine.shape[1]] - np.take_along_axis(waiting, until, axis=1)
        share = 1.0 - (1.0 - call / interval) ** (1.0 / np.maximum(1.0, interval * calls))
        wait = _waits(at, tries.start[pick], interval, share, before)
        longer = _passed_over(calls / np.maximum(waiting[:, :1], 1e-12), until - places_in_row) - 1.0
        wait = np.minimum(wait * lie * (1.0 + longer / len(places)), interval)
        wait = np.where(tries.calls_from[pick] > at, tries.calls_from[pick] - at, wait)
        fits = there & (at < latest)
        if not fits.any():
            continue
        carried = (at + wait < latest) & (at + wait + tries.begun[pick] - call <= latest)
        missed = np.where(at + wait < latest, wait + tries.begun[pick] - call, latest - at)
        taken_for = np.where(carried, wait + held[pick] - call, missed)
        call_at[mine[fits]] = (at + wait)[fits]
        offered[mine[fits]] = True
        places.take(fits, at + taken_for * places.longer)
        if hourly is not None:
            hourly.take(fits, at + HOUR * hourly.longer)
    return Passed(offered=offered, call_at=call_at)


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
    return np.where(left > 0, np.minimum(probing, 1.0 + 0.13 * np.sqrt(remaining)), 1.0)


@dataclass
class _Offer:
    """The offer before, in each future: when it was made, and the call that it waits for."""

    at: Floats
    call: Floats


def _waits(at: Floats, start: Floats, interval: Floats, share: Floats, before: _Offer) -> Floats:
    """How long each place waits for a call, the places in the order in which they became free.

    The device that is to call next gets the place, so who waited when the offer before was made calls after that one's
    call. `share` is the call, between 0 and 1, of what is left of the interval then.
    """
    wait = np.empty_like(at)
    for column in range(at.shape[1]):
        waited = start[:, column] <= before.at
        ahead = np.where(waited, np.clip(before.call - at[:, column], 0.0, interval[:, column]), 0.0)
        wait[:, column] = ahead + (interval[:, column] - ahead) * share[:, column]
        before.at, before.call = at[:, column], at[:, column] + wait[:, column]
    return wait
