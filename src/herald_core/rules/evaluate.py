"""A rule as a function of one device: the engine in memory.

Its meaning is that of the database's engine (`herald.groups.rule_queries`); a property test holds
the two together. A clause about a missing value is false, and so `not` of it is true.
"""

import operator
import re
from collections.abc import Callable, Mapping
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from typing import Any, cast

from herald_core.rules.fields import TIME_DEPENDENT, FieldType, Vocabulary
from herald_core.rules.tree import And, Clause, Everything, Node, Not, Op, Or, Value, clauses
from herald_core.text import fold
from herald_core.versions import version_key, version_key_or_none

#: A device as rules see it: field key to value; a missing value is absent or None. Text, choices,
#: versions and days (ISO) are `str`, numbers `int` or `float`, times aware `datetime`, sets frozensets.
Record = Mapping[str, Any]
Predicate = Callable[[Record], bool]

_key_of = lru_cache(maxsize=10_000)(version_key_or_none)
_ORDER: Mapping[Op, Callable[[Any, Any], bool]] = {
    Op.EQ: operator.eq,
    Op.NE: operator.ne,
    Op.LT: operator.lt,
    Op.LE: operator.le,
    Op.GT: operator.gt,
    Op.GE: operator.ge,
}
_TEXT_OPS = (Op.CONTAINS, Op.STARTS_WITH, Op.ENDS_WITH, Op.LIKE)


def compile_predicate(node: Node, vocabulary: Vocabulary, now: datetime) -> Predicate:
    """A function that says whether a device is a member, as of `now`."""
    match node:
        case Everything():
            return lambda record: True
        case Clause():
            return _clause(node, vocabulary, now)
        case Not(operand):
            inner = compile_predicate(operand, vocabulary, now)
            return lambda record: not inner(record)
        case And(operands):
            return _all_of([compile_predicate(o, vocabulary, now) for o in operands])
        case Or(operands):
            return _any_of([compile_predicate(o, vocabulary, now) for o in operands])


# Plain loops: a generator inside `all` takes half as long again, and these run for every device and rule.
# ruff: noqa: SIM110


def _all_of(parts: list[Predicate]) -> Predicate:
    def holds(record: Record) -> bool:
        for part in parts:
            if not part(record):
                return False
        return True

    return holds


def _any_of(parts: list[Predicate]) -> Predicate:
    def holds(record: Record) -> bool:
        for part in parts:
            if part(record):
                return True
        return False

    return holds


def depends_on_time(node: Node) -> bool:
    """Whether membership can change merely because time passes."""
    return any(c.field in TIME_DEPENDENT or c.op in (Op.OLDER_THAN, Op.WITHIN) for c in clauses(node))


def like_pattern(pattern: str) -> re.Pattern[str]:
    """`like` as a regular expression on folded text: * is any run of characters, ? is one."""
    parts = {"*": ".*", "?": "."}
    return re.compile("".join(parts.get(c, re.escape(c)) for c in fold(pattern)), re.DOTALL)


def day_bounds(day: date) -> tuple[datetime, datetime]:
    """The start of a day in UTC and of the next one: [start, end)."""
    start = datetime.combine(day, time(), UTC)
    return start, start + timedelta(days=1)


def _clause(clause: Clause, vocabulary: Vocabulary, now: datetime) -> Predicate:
    spec = vocabulary.get(clause.field)
    if spec is None:
        raise KeyError(clause.field)
    key = clause.field
    if spec.type in (FieldType.SET, FieldType.GROUP):
        of_set = _set_test(clause)
        return lambda record: of_set(record.get(key) or frozenset())
    if clause.op is Op.IS_SET:
        return lambda record: record.get(key) is not None
    if clause.op is Op.IS_MISSING:
        return lambda record: record.get(key) is None
    test = _value_test(clause, spec.type, now)

    def holds(record: Record) -> bool:
        value = record.get(key)
        return value is not None and test(value)

    return holds


def _set_test(clause: Clause) -> Callable[[frozenset[str]], bool]:
    wanted = frozenset(str(v) for v in clause.values)
    match clause.op:
        case Op.EQ | Op.ALL_OF:
            return lambda members: wanted <= members
        case Op.NE | Op.NONE_OF:
            return lambda members: not wanted & members
        case Op.ANY_OF:
            return lambda members: bool(wanted & members)
        case Op.IS_SET:
            return lambda members: bool(members)
        case Op.IS_MISSING:
            return lambda members: not members
    fits = _text_test(clause.op, str(clause.values[0]))
    return lambda members: any(fits(m) for m in members)


def _text_test(op: Op, wanted: str) -> Callable[[str], bool]:
    if op is Op.LIKE:
        pattern = like_pattern(wanted)
        return lambda value: pattern.fullmatch(fold(value)) is not None
    folded = fold(wanted)
    if op is Op.CONTAINS:
        return lambda value: folded in fold(value)
    if op is Op.STARTS_WITH:
        return lambda value: fold(value).startswith(folded)
    return lambda value: fold(value).endswith(folded)


def _value_test(clause: Clause, kind: FieldType, now: datetime) -> Callable[[Any], bool]:
    op, values = clause.op, clause.values
    if op in _TEXT_OPS:
        return _text_test(op, str(values[0]))
    if op in (Op.OLDER_THAN, Op.WITHIN):
        return _age_test(op, cast(timedelta, values[0]), kind, now)
    if kind is FieldType.TIME:
        return _time_test(op, values)
    wanted = [comparable(v, kind) for v in values]
    compare = _comparison(op, wanted)
    if kind is FieldType.VERSION:

        def of_version(value: str) -> bool:
            key = _key_of(value)
            return key is not None and compare(key)

        return of_version
    return compare


def comparable(value: Value, kind: FieldType) -> Any:
    """A literal in the form in which values of the type are compared."""
    if kind is FieldType.VERSION:
        return version_key(str(value))
    return value.isoformat() if isinstance(value, date) else value


def _comparison(op: Op, wanted: list[Any]) -> Callable[[Any], bool]:
    if op is Op.BETWEEN:
        low, high = wanted
        return lambda value: low <= value <= high
    if op is Op.ANY_OF:
        return lambda value: value in wanted
    if op is Op.NONE_OF:
        return lambda value: value not in wanted
    compare, operand = _ORDER[op], wanted[0]
    return lambda value: compare(value, operand)


def _age_test(op: Op, age: timedelta, kind: FieldType, now: datetime) -> Callable[[Any], bool]:
    limit: Any = now - age
    if kind is FieldType.DATE:
        limit = first_day_within(age, now).isoformat()
    return (lambda value: value < limit) if op is Op.OLDER_THAN else (lambda value: value >= limit)


def first_day_within(age: timedelta, now: datetime) -> date:
    """The earliest day whose start (in UTC) is no more than `age` before `now`."""
    limit = (now - age).astimezone(UTC)
    return limit.date() if day_bounds(limit.date())[0] >= limit else limit.date() + timedelta(days=1)


def _time_test(op: Op, values: tuple[Value, ...]) -> Callable[[datetime], bool]:
    start, end = day_bounds(cast(date, values[0]))
    match op:
        case Op.EQ:
            return lambda value: start <= value < end
        case Op.NE:
            return lambda value: not start <= value < end
        case Op.LT:
            return lambda value: value < start
        case Op.LE:
            return lambda value: value < end
        case Op.GT:
            return lambda value: value >= end
        case Op.GE:
            return lambda value: value >= start
    last = day_bounds(cast(date, values[1]))[1]
    return lambda value: start <= value < last
