"""The sieve of a rule: what each of its lines lets through, and who is stopped by just one.

Every device has a mask: bit i is set where line i is true of it. How many devices have each mask says
all that the sieve shows, however many lines there are.
"""

from collections.abc import Mapping
from dataclasses import dataclass

from herald_core.rules.tree import And, Clause, Node, Not, Op, clauses

#: Lines beyond this many are looked at together, as the last one: a mask has 63 bits.
MOST_LINES = 40


@dataclass(frozen=True, kw_only=True)
class LineCount:
    """A line: how many devices it lets through alone, how many are left after it and those before it,
    and how many are stopped by it and by no other."""

    alone: int
    left: int
    stopped_here_only: int


def lines_of(node: Node) -> tuple[Node, ...]:
    """The top-level lines of a rule: the parts that must all be true."""
    return node.operands if isinstance(node, And) else (node,)


def sieve_lines(node: Node) -> tuple[Node, ...]:
    """The lines as the sieve counts them: the last stands for all that are beyond `MOST_LINES`."""
    lines = lines_of(node)
    if len(lines) <= MOST_LINES:
        return lines
    return (*lines[: MOST_LINES - 1], And(lines[MOST_LINES - 1 :]))


def count_lines(devices_by_mask: Mapping[int, int], lines: int) -> list[LineCount]:
    """What each line lets through, from how many devices have each mask."""
    full = (1 << lines) - 1
    result = []
    for index in range(lines):
        bit, so_far = 1 << index, (1 << (index + 1)) - 1
        result.append(
            LineCount(
                alone=sum(n for mask, n in devices_by_mask.items() if mask & bit),
                left=sum(n for mask, n in devices_by_mask.items() if mask & so_far == so_far),
                stopped_here_only=devices_by_mask.get(full ^ bit, 0),
            )
        )
    return result


def compared_field(line: Node) -> str | None:
    """The field whose missing values make this one-clause line false, or None."""
    inner = line.operand if isinstance(line, Not) else line
    if isinstance(inner, Clause) and inner.op not in (Op.IS_SET, Op.IS_MISSING):
        return inner.field
    return None


def named_values(node: Node) -> dict[str, list[str]]:
    """For each field, the words that the rule compares it with for equality, in their order."""
    found: dict[str, dict[str, None]] = {}
    for clause in clauses(node):
        if clause.op in (Op.EQ, Op.NE, Op.ANY_OF, Op.ALL_OF, Op.NONE_OF):
            words = found.setdefault(clause.field, {})
            words.update({v: None for v in clause.values if isinstance(v, str)})
    return {key: list(words) for key, words in found.items() if words}
