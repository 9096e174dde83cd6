"""Every device into exactly one ring, and even draws."""

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

DRAWS = 6  # tie-breaks tried for one even draw; the closest to the rest is kept


class RingKind(StrEnum):
    """How a ring chooses its devices from those that no earlier ring took."""

    GROUP = "group"
    SHARE = "share"
    NUMBER = "number"
    REST = "rest"


@dataclass(frozen=True, kw_only=True)
class RingPlan:
    """One ring: members of a group, a share (per cent of those left), a number, or all the rest. A share of a group is
    of its members that are left; without one, all of them."""

    kind: RingKind
    members: frozenset[int] = frozenset()
    share_pct: float | None = None
    number: int = 0


def assign(
    device_ids: Sequence[int],
    strata: Sequence[Sequence[str]],
    rings: Sequence[RingPlan],
    seed: int,
    drawable: Sequence[bool] | None = None,
) -> list[int]:
    """The index of each device's ring, in the order of `device_ids`; -1 where no ring takes it.

    `strata` holds, for each device, its values of the fields over which draws are even. The same
    seed gives the same rings. Devices that are not `drawable` (all are, if it is left out) are never
    drawn for a share or a number; a silent device in a canary would tell nothing and hold its gate.
    """
    ring_of: NDArray[np.int64] = np.full(len(device_ids), -1, dtype=np.int64)
    codes = _codes(strata)
    generator = np.random.default_rng(seed)
    may_be_drawn = np.ones(len(device_ids), dtype=bool) if drawable is None else np.array(drawable, dtype=bool)
    for index, ring in enumerate(rings):
        left = np.flatnonzero(ring_of == -1)
        pool = left[may_be_drawn[left]]
        match ring.kind:
            case RingKind.REST:
                chosen = left
            case RingKind.GROUP:
                chosen = np.array([int(i) for i in left if device_ids[int(i)] in ring.members], dtype=np.int64)
                if ring.share_pct is not None:
                    count = math.ceil(len(chosen) * ring.share_pct / 100)
                    chosen = even_draw(chosen[may_be_drawn[chosen]], codes, count, generator)
            case RingKind.SHARE:
                chosen = even_draw(pool, codes, math.ceil(len(left) * (ring.share_pct or 0.0) / 100), generator)
            case RingKind.NUMBER:
                chosen = even_draw(pool, codes, ring.number, generator)
        ring_of[chosen] = index
    return [int(r) for r in ring_of]


def _codes(strata: Sequence[Sequence[str]]) -> NDArray[np.int64]:
    """Strata as numbers: one row a device, one column a field; numbered as they first appear."""
    if not strata:
        return np.zeros((0, 0), dtype=np.int64)
    columns = []
    for column in zip(*strata, strict=True):
        numbers: dict[str, int] = {}
        columns.append(np.array([numbers.setdefault(value, len(numbers)) for value in column], dtype=np.int64))
    return np.stack(columns, axis=1) if columns else np.zeros((len(strata), 0), dtype=np.int64)


def even_draw(
    pool: NDArray[np.int64], codes: NDArray[np.int64], count: int, generator: np.random.Generator
) -> NDArray[np.int64]:
    """`count` of the pool, drawn so that the strata's shares look like the pool's.

    Each joint stratum gets the whole part of its quota. What is left goes, one each, to the strata with a remainder
    whose values are furthest behind in their own fields: where there are more strata than devices to draw, the
    largest remainders alone would only ever take the commonest combinations. Of several random tie-breaks the one
    whose shares in each field are nearest to the pool's is kept.
    """
    if count >= len(pool):
        return pool
    if count <= 0:
        return pool[:0]
    joint = np.zeros(len(pool), dtype=np.int64)
    for column in codes[pool].T:
        joint = joint * (int(column.max()) + 1) + column
    _, first, stratum, sizes = np.unique(joint, return_index=True, return_inverse=True, return_counts=True)
    fields = codes[pool[first]]  # one row a stratum: the shares depend on nothing else
    quota = sizes * (count / len(pool))
    whole = np.floor(quota + 1e-9).astype(np.int64)
    extra = count - int(whole.sum())
    best, best_distance = whole, math.inf
    for _ in range(DRAWS):
        take = _with_remainders(whole, quota, fields, extra, generator)
        largest, _ = distance(fields, fields, take, sizes)
        if largest < best_distance:
            best, best_distance = take, largest
    order = np.lexsort((generator.random(len(pool)), stratum))
    place = np.arange(len(pool)) - np.repeat(np.cumsum(sizes) - sizes, sizes)
    return np.sort(pool[order[place < np.repeat(best, sizes)]])


def _with_remainders(
    whole: NDArray[np.int64],
    quota: NDArray[np.floating[Any]],
    fields: NDArray[np.int64],
    extra: int,
    generator: np.random.Generator,
) -> NDArray[np.int64]:
    """`whole` with `extra` more, at most one a stratum: each to the one that lessens the squared gaps of its fields
    most, which is the one whose values lack most."""
    take = whole.copy()
    lacking = []  # by field and value: how many devices short of the pool's share
    for column in fields.T:
        size = int(column.max()) + 1
        lacking.append(np.bincount(column, weights=quota - whole, minlength=size))
    remainder = quota - whole
    score = 0.5 * remainder + 1e-6 * generator.random(len(quota))
    score[remainder <= 1e-9] = -np.inf
    for column, short in zip(fields.T, lacking, strict=True):
        score += short[column]
    for _ in range(extra):
        chosen = int(np.argmax(score))
        take[chosen] += 1
        score[chosen] = -np.inf
        for column in fields.T:
            score[column == column[chosen]] -= 1.0
    return take


def distance(
    drawn: NDArray[np.int64],
    pool: NDArray[np.int64],
    drawn_weights: NDArray[np.int64] | None = None,
    pool_weights: NDArray[np.int64] | None = None,
) -> tuple[float, float]:
    """How far the drawn devices are from the pool: the largest difference of shares over all fields
    and values, and the largest total variation of a field. Both between 0 and 1.

    Rows are devices, or strata where weights say how many devices each stands for.
    """
    drawn_total = len(drawn) if drawn_weights is None else int(drawn_weights.sum())
    pool_total = len(pool) if pool_weights is None else int(pool_weights.sum())
    largest = variation = 0.0
    for field in range(pool.shape[1]):
        size = int(pool[:, field].max(initial=0)) + 1
        gap = np.abs(
            np.bincount(drawn[:, field], weights=drawn_weights, minlength=size) / max(1, drawn_total)
            - np.bincount(pool[:, field], weights=pool_weights, minlength=size) / max(1, pool_total)
        )
        largest = max(largest, float(gap.max(initial=0.0)))
        variation = max(variation, float(gap.sum() / 2))
    return largest, variation


@dataclass(frozen=True, kw_only=True)
class ValueShare:
    """The share (0 to 1) of one value of a field in a ring and in all devices of the rollout."""

    field: str
    value: str
    in_ring: float
    in_all: float


def shares(
    strata: Sequence[Sequence[str]], ring_of: Sequence[int], ring: int, fields: Sequence[str], most: int = 4
) -> list[ValueShare]:
    """The commonest values of each field, in one ring beside all devices."""
    result = []
    drawn = [values for values, r in zip(strata, ring_of, strict=True) if r == ring]
    for column, name in enumerate(fields):
        everywhere, inside = Counter(v[column] for v in strata), Counter(v[column] for v in drawn)
        for value, count in everywhere.most_common(most):
            in_ring = inside[value] / len(drawn) if drawn else 0.0
            result.append(ValueShare(field=name, value=value, in_ring=in_ring, in_all=count / len(strata)))
    return result


def distances(strata: Sequence[Sequence[str]], ring_of: Sequence[int], rings: int) -> list[tuple[float, float]]:
    """For each ring its `distance` from all devices; zeros for a ring without any."""
    codes, of = _codes(strata), np.asarray(ring_of, dtype=np.int64)
    return [distance(codes[of == ring], codes) if (of == ring).any() else (0.0, 0.0) for ring in range(rings)]


def detection_chance(devices: int, fault_rate: float) -> float:
    """The chance that `devices` show a fault which strikes one in 1/`fault_rate`: 1 - (1 - r)^n."""
    return 1.0 - (1.0 - fault_rate) ** devices


def devices_needed(fault_rate: float, chance: float = 0.95) -> int:
    """The fewest devices that show the fault with at least that chance."""
    return math.ceil(math.log(1.0 - chance) / math.log(1.0 - fault_rate))


def ring_sizes(ring_of: Sequence[int], rings: int) -> Mapping[int, int]:
    """How many devices each ring has; -1 counts those in none."""
    counts = dict.fromkeys(range(-1, rings), 0)
    for ring in ring_of:
        counts[ring] += 1
    return counts
