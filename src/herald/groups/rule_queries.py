"""A rule as a query: the engine in the database.

Its meaning is that of the engine in memory (`herald_core.rules.evaluate`). Every clause becomes a
condition that is true or not; `not` becomes "is not true", so that a missing value never makes a
clause and its negation both false. Names of models, sites and custodians become uncorrelated
subqueries on those small tables, so that the devices are read without joins.
"""

from collections.abc import Callable, Mapping
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any, cast

from django.db.models import (
    BooleanField,
    Case,
    DecimalField,
    ExpressionWrapper,
    F,
    Func,
    Model,
    Q,
    QuerySet,
    TextField,
    Value,
    When,
)
from django.db.models.functions import Cast
from django.db.models.lookups import (
    GreaterThan,
    GreaterThanOrEqual,
    In,
    LessThan,
    LessThanOrEqual,
)

from herald.db.expressions import CodePoints, Fold, IsNotNull, JsonText, NotTrue
from herald.fleet.models import Custodian, Device, DeviceModel, Site
from herald.fleet.presence import presence_expression
from herald.fleet.properties import has_value
from herald.groups.models import Group, GroupMembership
from herald_core.rules import And, Clause, Everything, FieldSpec, FieldType, Node, Not, Op, Or, Vocabulary
from herald_core.rules.evaluate import comparable, day_bounds, first_day_within
from herald_core.text import fold

if TYPE_CHECKING:
    from herald.fleet.querysets import DeviceQuerySet

_COMPARE: Mapping[Op, type[Any]] = {
    Op.LT: LessThan,
    Op.LE: LessThanOrEqual,
    Op.GT: GreaterThan,
    Op.GE: GreaterThanOrEqual,
}
_TEXT_OPS = (Op.CONTAINS, Op.STARTS_WITH, Op.ENDS_WITH, Op.LIKE)
_NOBODY = Q(pk__isnull=True)
#: values of a list up to which asking the JSON index for each beats reading every row
_MOST_BY_INDEX = 10


class _Like(Func):
    """``text LIKE pattern`` on text with case ignored."""

    template = "(%(expressions)s)"
    arg_joiner = " LIKE "
    output_field = BooleanField()


class _AnyMemberLike(Func):
    """Whether any member of a text array fits a pattern, case ignored."""

    template = "EXISTS (SELECT 1 FROM unnest(%(expressions)s))"
    arg_joiner = ") AS member(word) WHERE herald_fold(member.word) LIKE ("
    output_field = BooleanField()


def matching(node: Node, vocabulary: Vocabulary, now: datetime) -> "DeviceQuerySet":
    """The devices that the rule matches, as of `now`."""
    return Device.objects.filter(to_condition(node, vocabulary, now))


def to_condition(node: Node, vocabulary: Vocabulary, now: datetime) -> Q:
    """The rule as a condition on devices; never unknown where a device misses a value."""
    match node:
        case Everything():
            return Q()
        case Clause():
            spec = vocabulary.get(node.field)
            if spec is None:
                raise KeyError(node.field)
            return _clause(node, spec, now)
        case Not(operand):
            return negated(to_condition(operand, vocabulary, now))
        case And(operands):
            result = Q()
            for operand in operands:
                result &= to_condition(operand, vocabulary, now)
            return result
        case Or(operands):
            parts = [to_condition(o, vocabulary, now) for o in operands]
            if any(not part for part in parts):
                return Q()  # "everything" is among them, and an empty Q would vanish from an OR
            result = parts[0]
            for part in parts[1:]:
                result |= part
            return result


def negated(condition: Q) -> Q:
    """True exactly where the condition is false or unknown."""
    if not condition:
        return _NOBODY
    return Q(NotTrue(ExpressionWrapper(condition, output_field=BooleanField())))


def like_of(op: Op, text: str) -> str:
    """A text operator's operand as a folded LIKE pattern."""
    escaped = "".join(f"\\{c}" if c in "\\%_" else c for c in fold(text))
    match op:
        case Op.CONTAINS:
            return f"%{escaped}%"
        case Op.STARTS_WITH:
            return f"{escaped}%"
        case Op.ENDS_WITH:
            return f"%{escaped}"
    return escaped.replace("*", "%").replace("?", "_")


# -- fields ------------------------------------------------------------------------------------------


def _clause(clause: Clause, spec: FieldSpec, now: datetime) -> Q:
    if spec.source != "device":
        return _property(clause, spec, now)
    return _FIELDS[spec.key](clause, now)


def _column(name: str) -> Callable[[Clause, datetime], Q]:
    return lambda clause, now: _text(clause, F(name), name)


def _related(path: str, model: type[Model], column: str = "name") -> Callable[[Clause, datetime], Q]:
    """A text column of the small table behind a foreign key; missing where the key or the text is."""

    def condition(clause: Clause, now: datetime) -> Q:
        if clause.op is Op.IS_MISSING:
            return negated(condition(Clause(clause.field, Op.IS_SET), now))
        rows: QuerySet[Any] = model._default_manager.filter(_text(clause, F(column), column))
        return Q(**{f"{path}__in": rows.values("pk")})

    return condition


def _text(clause: Clause, column: Any, name: str | None) -> Q:
    """Text that is missing where it is NULL or empty. `name` is the plain column, where there is one."""
    is_set = Q(**{f"{name}__gt": ""}) if name else Q(GreaterThan(column, Value("")))
    match clause.op:
        case Op.IS_SET:
            return is_set
        case Op.IS_MISSING:
            return negated(is_set)
    return is_set & _text_comparison(clause.op, list(clause.values), column, name)


def _text_comparison(op: Op, values: list[Any], column: Any, name: str | None) -> Q:
    if op in _TEXT_OPS:
        return Q(_Like(Fold(column), Value(like_of(op, values[0]))))
    if op in (Op.EQ, Op.ANY_OF):
        return Q(**{f"{name}__in": values}) if name else Q(In(column, values))
    if op in (Op.NE, Op.NONE_OF):
        return ~Q(**{f"{name}__in": values}) if name else negated(Q(In(column, values)))
    return _ordered(op, values, CodePoints(column))


def _ordered(op: Op, values: list[Any], column: Any) -> Q:
    if op is Op.BETWEEN:
        return Q(GreaterThanOrEqual(column, values[0])) & Q(LessThanOrEqual(column, values[1]))
    return Q(_COMPARE[op](column, values[0]))


def _version(clause: Clause, text: Any, key: Any) -> Q:
    """`text` as it is reported, `key` as it is compared; both NULL where missing."""
    if clause.op is Op.IS_SET:
        return Q(GreaterThan(text, Value("")))
    if clause.op is Op.IS_MISSING:
        return negated(Q(GreaterThan(text, Value(""))))
    if clause.op in _TEXT_OPS:
        return _text_comparison(clause.op, list(clause.values), text, None)
    keys = [comparable(v, FieldType.VERSION) for v in clause.values]
    if clause.op in (Op.EQ, Op.ANY_OF):
        return Q(In(key, keys))
    if clause.op in (Op.NE, Op.NONE_OF):
        return Q(GreaterThan(key, Value(""))) & negated(Q(In(key, keys)))
    return _ordered(clause.op, keys, key)


def _firmware(clause: Clause, now: datetime) -> Q:
    return _version(clause, F("firmware"), F("firmware_key"))


def _members(clause: Clause, column: str) -> Q:
    """A set held in a text array that is never NULL."""
    words = [str(v) for v in clause.values]
    match clause.op:
        case Op.EQ | Op.ALL_OF:
            return Q(**{f"{column}__contains": words})
        case Op.ANY_OF:
            return Q(**{f"{column}__overlap": words})
        case Op.NE | Op.NONE_OF:
            return negated(Q(**{f"{column}__overlap": words}))
        case Op.IS_SET:
            return Q(**{f"{column}__gt": []})
        case Op.IS_MISSING:
            return Q(**{column: []})
    return Q(_AnyMemberLike(F(column), Value(like_of(clause.op, words[0]))))


def _tag(clause: Clause, now: datetime) -> Q:
    return _members(clause, "tags")


def _custodian_tag(clause: Clause, now: datetime) -> Q:
    """The set of a device without custodian is empty, so negations include it."""
    opposite = {Op.NE: Op.ANY_OF, Op.NONE_OF: Op.ANY_OF, Op.IS_MISSING: Op.IS_SET}.get(clause.op)
    if opposite:
        return negated(_custodian_tag(Clause(clause.field, opposite, clause.values), now))
    return Q(custodian__in=Custodian.objects.filter(_members(clause, "tags")).values("pk"))


def _group(clause: Clause, now: datetime) -> Q:
    names = [str(v) for v in clause.values]
    if clause.op in (Op.EQ, Op.ALL_OF):
        result = Q()
        for name in names:
            result &= _in_groups([name])
        return result
    inside = _in_groups(names)
    return inside if clause.op is Op.ANY_OF else negated(inside)


def _in_groups(names: list[str]) -> Q:
    groups = list(Group.objects.filter(name__in=names).values_list("pk", flat=True))
    if not groups:
        return _NOBODY
    return Q(pk__in=GroupMembership.objects.of_groups(groups).values("device_id"))


def _presence(clause: Clause, now: datetime) -> Q:
    """Presence is always set."""
    presence = presence_expression(now)
    match clause.op:
        case Op.IS_SET:
            return Q(pk__isnull=False)
        case Op.IS_MISSING:
            return _NOBODY
    return _text_comparison(clause.op, list(clause.values), presence, None)


def _time(name: str) -> Callable[[Clause, datetime], Q]:
    def condition(clause: Clause, now: datetime) -> Q:
        if clause.op in (Op.IS_SET, Op.IS_MISSING):
            return Q(**{f"{name}__isnull": clause.op is Op.IS_MISSING})
        if clause.op in (Op.OLDER_THAN, Op.WITHIN):
            limit = now - cast(timedelta, clause.values[0])
            return Q(**{f"{name}__lt" if clause.op is Op.OLDER_THAN else f"{name}__gte": limit})
        start, end = day_bounds(cast(date, clause.values[0]))
        inside = Q(**{f"{name}__gte": start, f"{name}__lt": end})
        match clause.op:
            case Op.EQ:
                return inside
            case Op.NE:
                return Q(**{f"{name}__isnull": False}) & negated(inside)
            case Op.LT:
                return Q(**{f"{name}__lt": start})
            case Op.LE:
                return Q(**{f"{name}__lt": end})
            case Op.GT:
                return Q(**{f"{name}__gte": end})
            case Op.GE:
                return Q(**{f"{name}__gte": start})
        last = day_bounds(cast(date, clause.values[1]))[1]
        return Q(**{f"{name}__gte": start, f"{name}__lt": last})

    return condition


_FIELDS: Mapping[str, Callable[[Clause, datetime], Q]] = {
    "uid": _column("uid"),
    "name": _column("name"),
    "serial": _column("serial"),
    "model": _related("model", DeviceModel),
    "family": _related("model", DeviceModel, "family"),
    "hardware": _column("hardware_revision"),
    "firmware": _firmware,
    "site": _related("site", Site),
    "region": _related("site", Site, "region"),
    "time_zone": _column("time_zone"),
    "custodian": _related("custodian", Custodian),
    "custodian_tag": _custodian_tag,
    "tag": _tag,
    "group": _group,
    "presence": _presence,
    "admission": _column("admission"),
    "first_seen": _time("first_seen"),
    "last_check_in": _time("last_check_in"),
}


# -- properties: attributes and facts, kept as JSON ----------------------------------------------------


def _property(clause: Clause, spec: FieldSpec, now: datetime) -> Q:
    """A value of another JSON type than the property's counts as missing."""
    column = "attributes" if spec.source == "attribute" else "facts"
    is_set = has_value(spec)
    if clause.op is Op.IS_SET:
        return is_set
    if clause.op is Op.IS_MISSING:
        return negated(is_set)
    indexed = spec.type in (FieldType.TEXT, FieldType.CHOICE, FieldType.NUMBER)
    if indexed and clause.op in (Op.EQ, Op.ANY_OF) and len(clause.values) <= _MOST_BY_INDEX:
        result = Q()
        for value in clause.values:
            result |= Q(**{f"{column}__contains": {spec.key: value}})
        return result
    if spec.type is FieldType.YES_NO:
        wanted = clause.values[0] if clause.op is Op.EQ else not clause.values[0]
        return Q(**{f"{column}__contains": {spec.key: wanted}})
    if spec.type is FieldType.NUMBER:
        return _number(clause, Case(When(is_set, then=Cast(JsonText(F(column), Value(spec.key)), _NUMERIC))))
    text = Case(When(is_set, then=JsonText(F(column), Value(spec.key))), output_field=TextField())
    if spec.type is FieldType.VERSION:
        return _version(clause, text, CodePoints(JsonText(F("version_keys"), Value(spec.key))))
    if clause.op in (Op.OLDER_THAN, Op.WITHIN):
        first = first_day_within(cast(timedelta, clause.values[0]), now).isoformat()
        return _ordered(Op.LT if clause.op is Op.OLDER_THAN else Op.GE, [first], CodePoints(text))
    values = [comparable(v, spec.type) for v in clause.values]
    return is_set & _text_comparison(clause.op, values, text, None)


class _Numeric(DecimalField):  # type: ignore[type-arg]  # it takes none when it runs
    """NUMERIC without bounds, so that no value is rounded."""

    def db_type(self, connection: Any) -> str:
        return "numeric"

    def cast_db_type(self, connection: Any) -> str:
        return "numeric"


_NUMERIC = _Numeric(max_digits=1000, decimal_places=500)


def _number(clause: Clause, number: Any) -> Q:
    values = [Value(Decimal(repr(v)), _NUMERIC) for v in clause.values]
    if clause.op in (Op.EQ, Op.ANY_OF):
        return Q(In(number, values))
    if clause.op in (Op.NE, Op.NONE_OF):
        return Q(IsNotNull(number)) & negated(Q(In(number, values)))
    return _ordered(clause.op, values, number)
