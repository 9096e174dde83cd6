"""The tree of a rule. Everything else (text, database query, function) is made from it."""

from collections.abc import Iterator
from dataclasses import dataclass
from dataclasses import field as dataclass_field
from datetime import date, timedelta
from enum import StrEnum


class Op(StrEnum):
    """The operators, as they are printed."""

    EQ = "="
    NE = "!="
    LT = "<"
    LE = "<="
    GT = ">"
    GE = ">="
    ANY_OF = "any of"
    ALL_OF = "all of"
    NONE_OF = "none of"
    CONTAINS = "contains"
    STARTS_WITH = "starts with"
    ENDS_WITH = "ends with"
    LIKE = "like"
    BETWEEN = "between"
    IS_SET = "is set"
    IS_MISSING = "is missing"
    OLDER_THAN = "older than"
    WITHIN = "within"


#: A literal: text (also choices and versions), number, yes/no, day, or duration.
Value = str | int | float | bool | date | timedelta


@dataclass(frozen=True)
class Everything:
    """True of every device."""


@dataclass(frozen=True)
class Clause:
    """One comparison. `values` holds none (is set), one, two (between) or many (lists)."""

    field: str
    op: Op
    values: tuple[Value, ...] = ()
    #: offsets of the clause in the text it was read from; no part of its meaning
    start: int = dataclass_field(default=0, compare=False)
    end: int = dataclass_field(default=0, compare=False)


@dataclass(frozen=True)
class Not:
    operand: "Node"


@dataclass(frozen=True)
class And:
    operands: tuple["Node", ...]


@dataclass(frozen=True)
class Or:
    operands: tuple["Node", ...]


Node = Everything | Clause | Not | And | Or


def clauses(node: Node) -> Iterator[Clause]:
    """Every clause of the tree, from left to right."""
    match node:
        case Clause():
            yield node
        case Not(operand):
            yield from clauses(operand)
        case And(operands) | Or(operands):
            for operand in operands:
                yield from clauses(operand)


def groups_of(node: Node) -> frozenset[str]:
    """The names of the groups that the rule refers to."""
    return frozenset(str(v) for c in clauses(node) if c.field == "group" for v in c.values)
