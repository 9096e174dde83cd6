"""A third evaluation of rules, written from the text of docs/rules.md alone: slow, plain, and nobody's engine.

It shares no code with the two engines but the tree that the parser makes.
"""

from collections.abc import Mapping
from datetime import UTC, date, datetime, timedelta
from typing import Any

from herald_core.rules import And, Clause, Everything, Node, Not, Op, Or

SETS = ("tag", "group", "custodian_tag")
VERSIONS = ("firmware", "loader", "boot")
TIMES = ("first_seen", "last_check_in")


def holds(node: Node, device: Mapping[str, Any], now: datetime) -> bool:
    """Whether the device is a member. A clause about a missing value is false, so `not` of it is true."""
    if isinstance(node, Everything):
        return True
    if isinstance(node, Not):
        return not holds(node.operand, device, now)
    if isinstance(node, And):
        return all(holds(o, device, now) for o in node.operands)
    if isinstance(node, Or):
        return any(holds(o, device, now) for o in node.operands)
    return _clause(node, device, now)


def _clause(clause: Clause, device: Mapping[str, Any], now: datetime) -> bool:
    value = device.get(clause.field)
    if clause.field in SETS:
        return _set(clause, value or frozenset())
    missing = value is None  # an empty text that was reported is a value
    if clause.op is Op.IS_MISSING:
        return missing
    if missing or clause.op is Op.IS_SET:
        return not missing
    if clause.op in (Op.OLDER_THAN, Op.WITHIN):
        age = now - _moment(value)
        # exactly seven days is within 7d, and not older; nor is a future time older, so it is within
        return age > clause.values[0] if clause.op is Op.OLDER_THAN else age <= clause.values[0]
    if clause.op in (Op.CONTAINS, Op.STARTS_WITH, Op.ENDS_WITH, Op.LIKE):
        return _text(clause.op, value, str(clause.values[0]))
    compared = [_compared(clause.field, value, wanted) for wanted in clause.values]
    match clause.op:
        case Op.EQ | Op.ANY_OF:
            return any(c == 0 for c in compared)
        case Op.NE | Op.NONE_OF:
            return all(c != 0 for c in compared)
        case Op.LT:
            return compared[0] < 0
        case Op.LE:
            return compared[0] <= 0
        case Op.GT:
            return compared[0] > 0
        case Op.GE:
            return compared[0] >= 0
        case Op.BETWEEN:
            return compared[0] >= 0 and compared[1] <= 0  # both ends are in
    raise AssertionError(clause)


def _moment(value: Any) -> datetime:
    """A time, or the start of a day in UTC."""
    return value if isinstance(value, datetime) else datetime.fromisoformat(value).replace(tzinfo=UTC)


def _set(clause: Clause, members: frozenset[str]) -> bool:
    """An empty set is a value; text operators ask whether any member fits."""
    wanted = [str(v) for v in clause.values]
    match clause.op:
        case Op.IS_SET:
            return len(members) > 0
        case Op.IS_MISSING:
            return len(members) == 0
        case Op.EQ | Op.ANY_OF:
            return any(w in members for w in wanted)
        case Op.ALL_OF:
            return all(w in members for w in wanted)
        case Op.NE | Op.NONE_OF:
            return not any(w in members for w in wanted)
    return any(_text(clause.op, member, wanted[0]) for member in members)


def _text(op: Op, value: str, wanted: str) -> bool:
    value, wanted = _lower(value), _lower(wanted)
    match op:
        case Op.CONTAINS:
            return wanted in value
        case Op.STARTS_WITH:
            return value.startswith(wanted)
        case Op.ENDS_WITH:
            return value.endswith(wanted)
    return _like(value, wanted)


def _like(value: str, pattern: str) -> bool:
    """`*` is any run of characters and `?` one; nothing else is special."""
    if not pattern:
        return not value
    if pattern[0] == "*":
        return any(_like(value[n:], pattern[1:]) for n in range(len(value) + 1))
    return bool(value) and pattern[0] in ("?", value[0]) and _like(value[1:], pattern[1:])


def _lower(text: str) -> str:
    """The one-to-one lower-case mapping: a character whose lower case is longer stays."""
    return "".join(c.lower() if len(c.lower()) == 1 else c for c in text)


def _compared(field: str, value: Any, wanted: Any) -> int:
    """-1, 0 or 1 as the value is below, the same as, or above what is wanted."""
    if field in VERSIONS:
        return compare_versions(value, str(wanted))
    if field in TIMES:
        start = datetime(wanted.year, wanted.month, wanted.day, tzinfo=UTC)  # a day in UTC
        return -1 if value < start else 1 if value >= start + timedelta(days=1) else 0
    if isinstance(wanted, date):
        value = date.fromisoformat(value)
    return (value > wanted) - (value < wanted)


def compare_versions(a: str, b: str) -> int:
    """A leading v and build data after + are dropped; dotted segments before the first -, then suffixes."""
    (left, left_suffix), (right, right_suffix) = _parts(a), _parts(b)
    for n in range(max(len(left), len(right))):
        found = _segment(left[n] if n < len(left) else "0", right[n] if n < len(right) else "0")
        if found:
            return found
    if left_suffix is None or right_suffix is None:  # no suffix sorts after any suffix
        return (left_suffix is None) - (right_suffix is None)
    for x, y in zip(left_suffix, right_suffix, strict=False):
        found = _segment(x, y)
        if found:
            return found
    return (len(left_suffix) > len(right_suffix)) - (len(left_suffix) < len(right_suffix))  # shorter first


def _parts(version: str) -> tuple[list[str], list[str] | None]:
    body, dash, suffix = version.removeprefix("v").split("+", 1)[0].partition("-")
    return body.split("."), suffix.split(".") if dash else None


def _segment(a: str, b: str) -> int:
    """Whole numbers by value and before words, words by code point."""
    if a.isdigit() and b.isdigit():
        return (int(a) > int(b)) - (int(a) < int(b))
    if a.isdigit() != b.isdigit():
        return -1 if a.isdigit() else 1
    return (a > b) - (a < b)
