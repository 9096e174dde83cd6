"""What the failed devices of a rollout share, that the confirmed ones do not; or any devices, that others do not.

Conditions (a field's value, a version below another, a tag) and pairs of them are each held against the failures: the
risk ratio with 0.5 added to each cell (Haldane and Anscombe), Fisher's exact test (one-sided, as only more failures are
a cause), and Benjamini and Hochberg's procedure over all that were tried, so that looking at thousands of conditions
finds none by chance. Finding none is a finding too.
"""

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from itertools import chain
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.stats import hypergeom

from herald_core.rules.evaluate import Record, compile_predicate
from herald_core.rules.fields import NON_CATEGORICAL, FieldSpec, FieldType, Vocabulary
from herald_core.rules.literals import can_be_written
from herald_core.rules.tree import And, Clause, Node, Op
from herald_core.versions import version_key_or_none

FALSE_DISCOVERIES = 0.05
MOST_CAUSES = 3
MOST_VALUES = 40  # of a field; more different ones name devices rather than kinds of them
FEWEST_FAILED = 3  # that a condition must hold for, to be told from chance
#: A pair must be this many times less likely than a single condition to be preferred over it.
PAIR_HANDICAP = 100.0

_NO_TIME = datetime.min.replace(tzinfo=UTC)
Mask = NDArray[np.bool_]


@dataclass(frozen=True, kw_only=True)
class Cause:
    """A condition that the failed share. Counts are of tried devices, with it and without it."""

    clauses: tuple[Clause, ...]
    failed_with: int
    tried_with: int
    failed_without: int
    tried_without: int
    risk_ratio: float
    p: float
    #: the expected share of false findings among all that are at least this unlikely
    q: float
    #: devices that were not tried yet and match
    untried: int

    @property
    def node(self) -> Node:
        """The condition as a rule."""
        return And(self.clauses) if len(self.clauses) > 1 else self.clauses[0]

    @property
    def rate_without(self) -> float:
        """The share of failures expected without the devices that match (0 to 1)."""
        return self.failed_without / self.tried_without if self.tried_without else 0.0


@dataclass(frozen=True)
class _Condition:
    clause: Clause
    tried: Mask
    untried: Mask


def find_common_causes(
    tried: Sequence[Record],
    failed: Sequence[bool],
    untried: Sequence[Record],
    vocabulary: Vocabulary,
    *,
    but: Collection[str] = (),
) -> list[Cause]:
    """The causes found, the strongest first; each is looked for among the devices that those before it leave.

    `failed` says of each tried device whether it failed. Records hold the firmware that a device had before. `but` are
    fields that are no cause, as they are what is to be explained.
    """
    outcome = np.array(failed, dtype=bool)
    found: list[Cause] = []
    left = np.ones(len(tried), dtype=bool)
    conditions = list(_conditions(tried, untried, vocabulary, {*NON_CATEGORICAL, *but}))
    while len(found) < MOST_CAUSES and conditions:
        best = _best(conditions, outcome, left)
        if best is None:
            break
        cause, mask = best
        found.append(cause)
        left &= ~mask
    return found


def _conditions(
    tried: Sequence[Record], untried: Sequence[Record], vocabulary: Vocabulary, but: Collection[str]
) -> Iterator[_Condition]:
    seen: set[bytes] = set()
    for spec in vocabulary.fields.values():
        if spec.key in but:
            continue
        for clause in _clauses(spec, [r.get(spec.key) for r in tried]):
            matches = compile_predicate(clause, vocabulary, _NO_TIME)
            mask = np.fromiter((matches(r) for r in tried), bool, len(tried))
            if not mask.any() or mask.all() or mask.tobytes() in seen:
                continue  # it tells nobody from anybody, or the same as one before
            seen.add(mask.tobytes())
            yield _Condition(clause, mask, np.fromiter((matches(r) for r in untried), bool, len(untried)))


def _clauses(spec: FieldSpec, values: Sequence[Any]) -> Iterator[Clause]:
    if spec.type is FieldType.SET:
        for word in sorted(set(chain.from_iterable(v or () for v in values)))[:MOST_VALUES]:
            yield Clause(spec.key, Op.EQ, (word,))
        return
    distinct = {v for v in values if can_be_written(v, spec.type)}
    if spec.type is FieldType.NUMBER:
        tenths = np.quantile(sorted(distinct), np.arange(0.1, 1.0, 0.1)) if len(distinct) > 4 else ()
        for limit in np.unique(tenths):
            yield Clause(spec.key, Op.LT, (_plain(limit),))
        return
    if len(distinct) > MOST_VALUES or spec.type is FieldType.DATE:
        return
    for value in sorted(distinct, key=str):
        yield Clause(spec.key, Op.EQ, (value,))
    if spec.type is FieldType.VERSION:
        keyed = sorted((k, v) for v in distinct if (k := version_key_or_none(v)) is not None)
        for _, version in keyed[1:]:
            yield Clause(spec.key, Op.LT, (version,))


def _plain(number: float) -> float | int:
    return int(number) if float(number).is_integer() else round(float(number), 3)


def _best(conditions: Sequence[_Condition], outcome: Mask, left: Mask) -> tuple[Cause, Mask] | None:
    """The strongest condition or pair among the devices left, if it is no chance finding."""
    bad = outcome & left
    total, failures = int(left.sum()), int(bad.sum())
    if failures < FEWEST_FAILED or failures == total:
        return None
    holds = np.array([c.tried & left for c in conditions])
    n = (holds.astype(np.float64) @ holds.T.astype(np.float64)).astype(np.int64)  # exact below 2**53
    k = ((holds & bad).astype(np.float64) @ holds.T.astype(np.float64)).astype(np.int64)
    first, second = np.triu_indices(len(conditions))  # the diagonal holds the single conditions
    n, k = n[first, second], k[first, second]
    # a pair that is one of its own two conditions says nothing new
    single = first == second
    own = holds.sum(axis=1)
    tested = (n > 0) & (n < total) & (single | ((n != own[first]) & (n != own[second])))
    if not tested.any():
        return None
    first, second, n, k, single = first[tested], second[tested], n[tested], k[tested], single[tested]
    p = hypergeom.sf(k - 1, total, failures, n)
    q = adjusted(p)
    rank = np.where(single, p, p * PAIR_HANDICAP)
    rank = np.where((q <= FALSE_DISCOVERIES) & (k >= FEWEST_FAILED), rank, np.inf)
    index = int(np.lexsort((~single, rank))[0])
    if not np.isfinite(rank[index]):
        return None
    chosen = [conditions[i] for i in dict.fromkeys((int(first[index]), int(second[index])))]
    mask = np.logical_and.reduce([c.tried for c in chosen]) & left
    untried = np.logical_and.reduce([c.untried for c in chosen])
    cause = Cause(
        clauses=tuple(c.clause for c in chosen),
        failed_with=int(k[index]),
        tried_with=int(n[index]),
        failed_without=failures - int(k[index]),
        tried_without=total - int(n[index]),
        risk_ratio=risk_ratio(int(k[index]), int(n[index]), failures, total),
        p=float(p[index]),
        q=float(q[index]),
        untried=int(untried.sum()),
    )
    return cause, mask


def shared_words(devices: int, of: int, share_of_others: float) -> str:
    """How many of some devices hold a condition, and what share of the others (0 to 1): "19 of the 23, and 4.3% of the
    others". Some are never rounded to none, nor nearly all to all."""
    some = f"all {of:,}" if devices == of else f"{devices:,} of the {of:,}"
    if share_of_others == 0:
        return f"{some}, and no other device"
    digits = 1 if share_of_others < 0.1 or share_of_others >= 0.99 else 0
    percent = min(max(round(share_of_others * 100, digits), 0.1), 99.9)
    return f"{some}, and {'under ' if share_of_others < 0.001 else ''}{percent:g}% of the others"


def risk_ratio(failed_with: int, tried_with: int, failed: int, tried: int) -> float:
    """How many times as likely a failure is with the condition as without it; 0.5 is added to each cell."""
    ok_with, failed_without = tried_with - failed_with, failed - failed_with
    ok_without = tried - tried_with - failed_without
    with_it = (failed_with + 0.5) / (failed_with + ok_with + 1)
    return with_it / ((failed_without + 0.5) / (failed_without + ok_without + 1))


def adjusted(p: NDArray[np.float64]) -> NDArray[np.float64]:
    """Benjamini and Hochberg's adjusted p-values (1995), in the order given."""
    order = np.argsort(p)
    scaled = p[order] * len(p) / np.arange(1, len(p) + 1)
    result = np.empty_like(scaled)
    result[order] = np.minimum(1.0, np.minimum.accumulate(scaled[::-1])[::-1])
    return result
