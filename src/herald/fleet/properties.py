"""Values of attributes and facts in the database: which count, and which keys devices report."""

from collections.abc import Collection, Mapping
from datetime import datetime

from django.db.models import BooleanField, Case, F, Func, Q, TextField, Value, When
from django.db.models.lookups import Exact

from herald.db.expressions import IsNotNull, JsonMember, JsonText, JsonType
from herald.fleet.models import ReportedFact
from herald_core.facts import ADDRESS_PATTERN, DATE_PATTERN, VERSION_PATTERN
from herald_core.rules import FieldSpec, FieldType


class _Matches(Func):
    """``text ~ pattern``: whether text fits a regular expression."""

    template = "(%(expressions)s)"
    arg_joiner = " ~ "
    output_field = BooleanField()


_JSON_TYPES = {FieldType.NUMBER: "number", FieldType.YES_NO: "boolean"}
#: keys beyond so many are not looked at: a device may send any it likes
MOST_KEYS = 1000


def has_value(spec: FieldSpec) -> Q:
    """True of a device that has a value which counts for the property; false, never unknown, of any other. The same as
    `herald_core.facts.fits` for facts; attributes were looked at when they were set."""
    column = "attributes" if spec.source == "attribute" else "facts"
    if spec.source == "fact" and spec.type is FieldType.VERSION:
        # a sort key is kept for those that count, and for no others
        return Q(IsNotNull(JsonText(F("version_keys"), Value(spec.key))))
    member = JsonMember(F(column), Value(spec.key))
    condition = Q(Exact(JsonType(member), Value(_JSON_TYPES.get(spec.type, "string"))))
    if spec.source == "fact" and spec.type is FieldType.DATE:
        return condition & Q(_Matches(JsonText(F(column), Value(spec.key)), Value(DATE_PATTERN)))
    return condition


def kind_expression(key: str) -> Case:
    """What the value under a key looks like, as `herald_core.facts.kind_of` says it; null where there is none."""
    kind, text = JsonType(JsonMember(F("facts"), Value(key))), JsonText(F("facts"), Value(key))
    version = Q(_Matches(text, Value(VERSION_PATTERN))) & ~Q(_Matches(text, Value(ADDRESS_PATTERN)))
    return Case(
        When(Exact(kind, Value("number")), then=Value(FieldType.NUMBER.value)),
        When(Exact(kind, Value("boolean")), then=Value(FieldType.YES_NO.value)),
        When(Q(_Matches(text, Value(DATE_PATTERN))), then=Value(FieldType.DATE.value)),
        When(version & Q(_Matches(text, Value("^.{1,64}$"))), then=Value(FieldType.VERSION.value)),
        When(Exact(kind, Value("string")), then=Value(FieldType.TEXT.value)),
        output_field=TextField(),
    )


def note_reported(keys: Collection[str], known: Mapping[str, tuple[str, str]], now: datetime) -> None:
    """Note keys that no property of the fleet explains, to be counted soon. `known` are the properties, by key."""
    strange = {k for k in keys if known.get(k, ("",))[0] != "fact"}
    if strange:
        noted = set(ReportedFact.objects.values_list("key", flat=True))
        note_keys(sorted(strange - noted)[: max(0, MOST_KEYS - len(noted))], now)


def note_keys(keys: Collection[str], now: datetime) -> None:
    """Note keys to be counted; those that are noted already stay as they are."""
    if keys:
        ReportedFact.objects.bulk_create([ReportedFact(key=k, first_at=now) for k in keys], ignore_conflicts=True)


def write_incompatible_values(reported: ReportedFact) -> None:
    """Write which values do not count."""
    reported.save(update_fields=["incompatible_values", "incompatible_count"])


def count_anew(key: str) -> None:
    """Have the values under a key counted soon."""
    counted_at(key, None)


def counted_at(key: str, at: datetime | None) -> None:
    """Note when the values under a key were counted last."""
    ReportedFact.objects.filter(key=key).update(counted_at=at)
