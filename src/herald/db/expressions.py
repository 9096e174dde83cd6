"""Database expressions that Django lacks and several rooms need."""

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any, TypeVar

from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import (
    BooleanField,
    DurationField,
    ExpressionWrapper,
    F,
    Field,
    FloatField,
    Func,
    JSONField,
    Lookup,
    Q,
    TextField,
    Value,
)
from django.db.models.fields.related import ForeignObject

_WHOLE_NUMBERS = frozenset({"smallint", "integer", "bigint"})


@ForeignObject.register_lookup  # a foreign key does not inherit the lookups of plain fields
@Field.register_lookup
class AnyOf(Lookup):
    """``filter(uid__any=[...])`` as ``uid = ANY('{..}')``: one parameter however long the list."""

    lookup_name = "any"
    prepare_rhs = False

    def get_db_prep_lookup(self, value: Any, connection: Any) -> tuple[str, list[Any]]:
        return "%s", [list(value)]

    def as_sql(self, compiler: Any, connection: Any) -> tuple[str, list[Any]]:
        left, left_params = self.process_lhs(compiler, connection)
        right, right_params = self.process_rhs(compiler, connection)
        # numbers of the column's own type are looked up in a hash; others, such as the small ones that a list is
        # written as, are compared one by one
        kind = self.lhs.output_field.db_type(connection)
        cast = f"::{kind}[]" if kind in _WHOLE_NUMBERS else ""
        return f"{left} = ANY({right}{cast})", [*left_params, *right_params]


class JsonText(Func):
    """``column ->> key``: a member of a JSON object as text, with the key as a parameter."""

    output_field = TextField()
    template = "(%(expressions)s)"
    arg_joiner = " ->> "


class JsonMember(Func):
    """``column -> key``: a member of a JSON object."""

    output_field = JSONField()
    template = "(%(expressions)s)"
    arg_joiner = " -> "


class JsonNumber(Func):
    """A member of a JSON object where it is a number, null where it is not; one beyond a float's range is cut."""

    output_field = FloatField()

    def as_sql(self, compiler: Any, connection: Any, **extra: Any) -> tuple[str, list[Any]]:
        (column, p), (key, q) = (compiler.compile(e) for e in self.source_expressions)
        sql = (
            f"(CASE jsonb_typeof({column} -> {key}) WHEN 'number' "
            f"THEN least(greatest(({column} ->> {key})::numeric, -1e300), 1e300)::float8 END)"
        )
        return sql, [*p, *q, *p, *q]

    def get_db_converters(self, connection: Any) -> list[Any]:
        return []  # the driver gives floats; to make each one anew would take longer than to read it


class JsonType(Func):
    """The kind of a JSON value: string, number, boolean …"""

    function = "jsonb_typeof"
    output_field = TextField()


class JsonTextArray(Func):
    """A JSON array of texts as an array of the database."""

    template = "ARRAY(SELECT jsonb_array_elements_text(%(expressions)s))"
    output_field = ArrayField(TextField())


class JsonWith(Func):
    """``column || object``: a JSON object with some members put in."""

    output_field = JSONField()
    template = "(%(expressions)s)"
    arg_joiner = " || "


class JsonSince(Func):
    """Since when each member of a JSON object has its value: of `new`, `old`, the times of `old`, and now.

    A member that is equal in both keeps its time (null where that is not known); any other gets now.
    """

    output_field = JSONField()

    def as_sql(self, compiler: Any, connection: Any, **extra: Any) -> tuple[str, list[Any]]:
        (new, p), (old, q), (times, r), (now, s) = (compiler.compile(e) for e in self.source_expressions)
        sql = (
            f"(SELECT coalesce(jsonb_object_agg(n.key, CASE WHEN n.value = {old} -> n.key THEN {times} -> n.key "
            f"ELSE to_jsonb({now}) END), '{{}}') FROM jsonb_each({new}) n)"
        )
        return sql, [*q, *r, *s, *p]


class JsonWithout(Func):
    """``column - keys``: a JSON object without some members."""

    output_field = JSONField()
    template = "(%(expressions)s)"
    arg_joiner = " - "


class Fold(Func):
    """Text with case ignored, exactly as `herald_core.text.fold` does it."""

    function = "herald_fold"
    output_field = TextField()


class CodePoints(Func):
    """Text that compares by code point, whatever the database's locale."""

    template = '(%(expressions)s) COLLATE "C"'
    output_field = TextField()


class IsNotNull(Func):
    """Whether an expression has a value."""

    template = "((%(expressions)s) IS NOT NULL)"
    output_field = BooleanField()


class NotTrue(Func):
    """True where the condition is false or unknown: the rule language's `not`."""

    template = "((%(expressions)s) IS NOT TRUE)"
    output_field = BooleanField()


Q_S = TypeVar("Q_S", bound=models.QuerySet[Any])
#: further words of a search are passed over
MOST_WORDS = 8


def containing(found: Q_S, words: str, fields: Sequence[str]) -> Q_S:
    """The rows in which each of the words is found: as the id, or in one of these fields, without regard to case."""
    for word in words.split()[:MOST_WORDS]:
        places = models.Q(**({"pk": int(word)} if word.isascii() and word.isdigit() and len(word) <= 18 else {"pk": 0}))
        for field in fields:
            places |= models.Q(**{f"{field}__icontains": word})
        # by ids, so that a row that is found in several places is there once
        found = found.filter(pk__in=found.model._default_manager.filter(places).values("pk"))
    return found


def not_tried_for_its_time(now: datetime) -> Q:
    """True of what was not tried for as many minutes as it says in `read_every_minutes`, or never."""
    each = ExpressionWrapper(F("read_every_minutes") * Value(timedelta(minutes=1)), output_field=DurationField())
    return Q(tried_at=None) | Q(tried_at__lte=Value(now) - each)
