"""A rule for a set of devices: the shortest that is found to match exactly them, or the nearest.

The lines that a rule may have are drawn from the values that the devices have. A line that lets every
wanted device through may stand in an exact rule; which of them to take, so that every other device is
stopped by one, is the set cover problem, solved here by branch and bound. Where no exact rule of such
lines exists, a beam search over all lines looks for the fewest devices wrong.
"""

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Any

import numpy as np
from numpy.typing import NDArray

from herald_core.rules.evaluate import Record, compile_predicate
from herald_core.rules.fields import NON_CATEGORICAL, FieldSpec, FieldType, Vocabulary
from herald_core.rules.literals import can_be_written
from herald_core.rules.tree import And, Clause, Everything, Node, Not, Op, Or
from herald_core.versions import version_key_or_none

_NO_TIME = datetime.min.replace(tzinfo=UTC)  # no line that is tried depends on it
MOST_VALUES = 3000  # a field with more different values says too little about a set
LONGEST_LIST = 8
MOST_LINES = 4
BEAM = 24
NODES = 20_000  # looked at by branch and bound before it settles for the best so far

_ORDERED = (FieldType.VERSION, FieldType.NUMBER, FieldType.DATE)
Mask = NDArray[np.bool_]


@dataclass(frozen=True, kw_only=True)
class Proposal:
    """A rule, and how far it is from what was wanted: devices it misses, and devices it takes besides."""

    rule: Node
    missing: int
    extra: int


@dataclass(frozen=True)
class _Line:
    node: Node
    cost: float
    mask: Mask  # by pattern, once patterns are known; by device before


def propose(records: Sequence[Record], wanted: Collection[int], vocabulary: Vocabulary) -> Proposal:
    """The rule for the devices of `records` whose index is in `wanted`.

    Raises:
        ValueError: nobody is wanted, for whom no rule can be found.
    """
    inside = np.zeros(len(records), dtype=bool)
    inside[list(wanted)] = True
    if not inside.any():
        raise ValueError("a rule for nobody")
    if inside.all():
        return Proposal(rule=Everything(), missing=0, extra=0)
    lines = [line for spec in _usable(vocabulary) for line in _lines_of(spec, records, inside, vocabulary)]
    if not lines:
        return Proposal(rule=Everything(), missing=0, extra=int((~inside).sum()))
    lines, ins, outs = _by_pattern(lines, inside)
    exact = _exact(lines, ins, outs)
    if exact:
        return Proposal(rule=_together(exact), missing=0, extra=0)
    return _nearest(lines, ins, outs)


def _usable(vocabulary: Vocabulary) -> Iterator[FieldSpec]:
    return (spec for key, spec in vocabulary.fields.items() if key not in NON_CATEGORICAL)


def _lines_of(spec: FieldSpec, records: Sequence[Record], inside: Mask, vocabulary: Vocabulary) -> Iterator[_Line]:
    """The lines about one field, each with the devices it lets through by the meaning that rules have."""
    codes, values = _coded([r.get(spec.key) for r in records])
    if len(values) > MOST_VALUES:
        return
    here = np.bincount(codes[inside], minlength=len(values))
    own = [values[i] for i in np.argsort(-here, kind="stable") if here[i]]
    for node, cost in _clauses(spec, own, values):
        matches: Callable[[Record], bool] = compile_predicate(node, vocabulary, _NO_TIME)
        table = np.array([matches({} if v is None else {spec.key: v}) for v in values])
        if table.any() and not table.all():
            yield _Line(node, cost, table[codes])


def _coded(values: Sequence[Any]) -> tuple[NDArray[np.intp], list[Any]]:
    """Values as numbers of distinct ones. Those of a field are of one type, so none is taken for another."""
    numbers: dict[Any, int] = {}
    codes = np.fromiter((numbers.setdefault(v, len(numbers)) for v in values), np.intp, len(values))
    return codes, list(numbers)


def _clauses(spec: FieldSpec, own: Sequence[Any], every: Sequence[Any]) -> Iterator[tuple[Node, float]]:
    """The clauses about a field that may tell the wanted devices, whose values are `own`, from others."""
    if spec.type is FieldType.SET:
        yield from _set_clauses(spec, own, every)
        return
    key, mine = spec.key, [v for v in own if can_be_written(v, spec.type)]
    every = [v for v in every if v is None or can_be_written(v, spec.type)]
    literals = [_literal(spec, v) for v in mine]
    for literal in literals[:40]:
        yield Clause(key, Op.EQ, (literal,)), 1.0
    for size in range(2, min(LONGEST_LIST, len(literals)) + 1):
        yield Clause(key, Op.ANY_OF, tuple(literals[:size])), 1.0 + 0.25 * size
    others = [_literal(spec, v) for v in every if v is not None and v not in mine]
    for literal in others[:40]:
        yield Clause(key, Op.NE, (literal,)), 1.3
        yield Not(Clause(key, Op.EQ, (literal,))), 1.5
    if spec.type in _ORDERED and mine:
        yield from _ranges(spec, mine, every)
    if None in every:
        yield Clause(key, Op.IS_MISSING), 1.2
        yield Clause(key, Op.IS_SET), 1.1


def _ranges(spec: FieldSpec, mine: Sequence[Any], every: Sequence[Any]) -> Iterator[tuple[Node, float]]:
    order = _order_of(spec)
    sortable = sorted((v for v in every if v is not None and order(v) is not None), key=lambda v: (order(v), str(v)))
    ours = [v for v in sortable if v in mine]
    if not ours:
        return
    low, high = _literal(spec, ours[0]), _literal(spec, ours[-1])
    above = [v for v in sortable if order(v) > order(ours[-1])]
    if above:
        # "below 5.2.0" says more than "at most 5.1.6", where 5.2.0 is what comes next
        yield Clause(spec.key, Op.LT, (_literal(spec, above[0]),)), 1.1
    yield Clause(spec.key, Op.LE, (high,)), 1.15
    yield Clause(spec.key, Op.GE, (low,)), 1.1
    yield Clause(spec.key, Op.BETWEEN, (low, high)), 1.6


def _set_clauses(spec: FieldSpec, own: Sequence[Any], every: Sequence[Any]) -> Iterator[tuple[Node, float]]:
    key = spec.key
    mine = list(dict.fromkeys(w for words in own for w in sorted(words or ())))
    others = sorted({w for words in every for w in words or ()} - set(mine))
    for word in mine[:60]:
        yield Clause(key, Op.EQ, (word,)), 1.0
    for first in range(min(len(mine), 14)):
        for second in range(first + 1, min(len(mine), 14)):
            yield Clause(key, Op.ANY_OF, (mine[first], mine[second])), 1.5
    for size in range(3, min(LONGEST_LIST, len(mine)) + 1):
        yield Clause(key, Op.ANY_OF, tuple(mine[:size])), 1.0 + 0.25 * size
    for word in [*others[:60], *mine[:20]]:
        yield Clause(key, Op.NE, (word,)), 1.3
    yield Clause(key, Op.IS_MISSING), 1.2
    yield Clause(key, Op.IS_SET), 1.1


def _literal(spec: FieldSpec, value: Any) -> Any:
    return date.fromisoformat(value) if spec.type is FieldType.DATE else value


def _order_of(spec: FieldSpec) -> Callable[[Any], Any]:
    return version_key_or_none if spec.type is FieldType.VERSION else lambda v: v


def _by_pattern(lines: Sequence[_Line], inside: Mask) -> tuple[list[_Line], NDArray[Any], NDArray[Any]]:
    """Devices that all lines treat alike become one pattern; the wanted and the other devices of each are counted."""
    packed = np.packbits(np.array([line.mask for line in lines]), axis=0).T
    _, first, number = np.unique(packed, axis=0, return_index=True, return_inverse=True)
    number = number.reshape(-1)
    kept: dict[bytes, _Line] = {}
    for line in lines:
        mask = line.mask[first]
        present = kept.get(mask.tobytes())
        if present is None or line.cost < present.cost:
            kept[mask.tobytes()] = _Line(line.node, line.cost, mask)
    ins = np.bincount(number[inside], minlength=len(first))
    outs = np.bincount(number[~inside], minlength=len(first))
    return list(kept.values()), ins, outs


def _exact(lines: Sequence[_Line], ins: NDArray[Any], outs: NDArray[Any]) -> list[_Line] | None:
    """The cheapest lines that let all wanted patterns through and together stop all others; None where there are none.

    Branch and bound: of the patterns still let through, the one that the fewest lines stop must be
    stopped by one of those, so only they are tried.
    """
    able = sorted((x for x in lines if x.mask[ins > 0].all()), key=lambda x: x.cost)
    if not able:
        return None
    stops = np.array([~x.mask for x in able])
    to_stop = (outs > 0) & (ins == 0)
    if ((ins > 0) & (outs > 0)).any() or not stops[:, to_stop].any(axis=0).all():
        return None
    rare = stops.sum(axis=0)
    best: tuple[float, list[int]] = (float("inf"), [])
    stack: list[tuple[float, list[int], Mask]] = [(0.0, [], to_stop)]
    looked = 0
    while stack and looked < NODES:
        looked += 1
        cost, chosen, left = stack.pop()
        if not left.any():
            if cost < best[0]:
                best = (cost, chosen)
            continue
        if cost + 1.0 >= best[0] or len(chosen) >= MOST_LINES + 2:
            continue
        hardest = int(np.argmin(np.where(left, rare, len(able) + 1)))
        for index in np.flatnonzero(stops[:, hardest])[::-1]:  # the cheapest is tried first
            stack.append((cost + able[index].cost, [*chosen, int(index)], left & ~stops[index]))
    return [able[i] for i in sorted(best[1])] if best[1] else None


def _nearest(lines: Sequence[_Line], ins: NDArray[Any], outs: NDArray[Any]) -> Proposal:
    """The rule with the fewest devices wrong: some lines together, or two such sets of lines beside each other."""
    first = _beam(lines, ins, outs)
    mask = _mask_of(first, len(ins))
    best = _judged(_together(first), mask, ins, outs)
    rest = np.where(mask, 0, ins)
    if best.missing and rest.any():
        second = _beam(lines, rest, np.where(mask, 0, outs))
        if second:
            either = mask | _mask_of(second, len(ins))
            both = _judged(Or((_together(first), _together(second))), either, ins, outs)
            if both.missing + both.extra < best.missing + best.extra:
                best = both
    return best


def _beam(lines: Sequence[_Line], ins: NDArray[Any], outs: NDArray[Any]) -> list[_Line]:
    masks = np.array([x.mask for x in lines])
    costs = np.array([x.cost for x in lines])
    kept: list[tuple[float, tuple[int, ...], Mask]] = [(float(outs.sum()), (), np.ones(len(ins), dtype=bool))]
    best = kept[0]
    for _ in range(MOST_LINES):
        found: dict[tuple[int, ...], tuple[float, tuple[int, ...], Mask]] = {}
        for _score, chosen, mask in kept:
            together = masks & mask
            wrong = (ins.sum() - together @ ins) + together @ outs
            score = wrong + 0.01 * (costs + costs[list(chosen)].sum())
            for index in np.argsort(score, kind="stable")[:BEAM]:
                key = tuple(sorted({*chosen, int(index)}))
                if len(key) > len(chosen):
                    found[key] = (float(score[index]), key, together[index])
        kept = sorted(found.values(), key=lambda x: x[0])[:BEAM]
        if not kept or kept[0][0] >= best[0]:
            break
        best = kept[0]
    return [lines[i] for i in best[1]]


def _mask_of(lines: Sequence[_Line], size: int) -> Mask:
    mask = np.ones(size, dtype=bool)
    for line in lines:
        mask &= line.mask
    return mask


def _judged(rule: Node, mask: Mask, ins: NDArray[Any], outs: NDArray[Any]) -> Proposal:
    return Proposal(rule=rule, missing=int(ins[~mask].sum()), extra=int(outs[mask].sum()))


def _together(lines: Sequence[_Line]) -> Node:
    nodes: Mapping[Node, None] = {line.node: None for line in lines}
    if not nodes:
        return Everything()
    return And(tuple(nodes)) if len(nodes) > 1 else next(iter(nodes))
