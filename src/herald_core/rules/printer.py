"""A rule's tree back to text; reading that text gives the same tree."""

import re
from datetime import date, timedelta
from decimal import Decimal

from herald_core.rules.tree import And, Clause, Everything, Node, Not, Op, Or, Value

_BARE = re.compile(r"[^\s\"(),=<>!]+\Z")
#: Words that have a meaning of their own where a value may stand.
RESERVED = frozenset({"and", "or", "not"})
_UNITS = ((timedelta(weeks=1), "w"), (timedelta(days=1), "d"), (timedelta(hours=1), "h"), (timedelta(minutes=1), "m"))


def to_text(node: Node) -> str:
    """The rule as text on one line, with no more parentheses than needed."""
    match node:
        case Everything():
            return "everything"
        case Clause():
            return clause_text(node)
        case Not(operand):
            return f"not {_wrapped(operand, And, Or)}"
        case And(operands):
            return " and ".join(_wrapped(o, Or, And) for o in operands)
        case Or(operands):
            return " or ".join(_wrapped(o, Or) for o in operands)


def _wrapped(node: Node, *kinds: type) -> str:
    text = to_text(node)
    return f"({text})" if isinstance(node, kinds) else text


def clause_text(clause: Clause) -> str:
    """One clause as text."""
    head = f"{clause.field} {clause.op}"
    values = [value_text(v) for v in clause.values]
    if clause.op in (Op.ANY_OF, Op.ALL_OF, Op.NONE_OF):
        return f"{head} ({', '.join(values)})"
    if clause.op is Op.BETWEEN:
        return f"{head} {values[0]} and {values[1]}"
    return " ".join([head, *values])


def value_text(value: Value) -> str:
    """A literal as it is written in a rule; text that is not one plain word gets quotes."""
    match value:
        case bool():
            return "yes" if value else "no"
        case timedelta():
            return duration_text(value)
        case date():
            return value.isoformat()
        case int() | float():
            return format(Decimal(repr(value)), "f")  # never an exponent, which the grammar lacks
    if _BARE.match(value) and value.lower() not in RESERVED:
        return value
    escaped = value.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def duration_text(value: timedelta) -> str:
    """A duration in the largest unit that divides it."""
    for unit, letter in _UNITS:
        if value % unit == timedelta(0):
            return f"{value // unit}{letter}"
    raise ValueError(f"a duration is whole minutes, not {value}")
