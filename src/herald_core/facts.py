"""Facts that devices report: which type a fact has, and which of its values count."""

import re
from collections.abc import Mapping
from typing import Any

from herald_core.rules.fields import FieldType
from herald_core.versions import is_version

#: a fact has a type where so many of its last values are of it
SHARE = 0.99
#: texts that look like versions: numbers with dots between them, and perhaps a suffix. The same in the database.
VERSION_PATTERN = r"^[vV]?[0-9]+([.][0-9]+)+([-+.][0-9A-Za-z.+-]*)?$"
#: four numbers are as likely an address
ADDRESS_PATTERN = r"^[0-9]{1,3}([.][0-9]{1,3}){3}$"
#: days as ISO 8601 writes them
DATE_PATTERN = r"^[0-9]{4}-(0[1-9]|1[0-2])-(0[1-9]|[12][0-9]|3[01])$"
_VERSION, _ADDRESS, _DATE = (
    re.compile(p.removesuffix("$") + r"\Z") for p in (VERSION_PATTERN, ADDRESS_PATTERN, DATE_PATTERN)
)
_TEXTS = (FieldType.TEXT, FieldType.VERSION, FieldType.DATE)
#: the types that a fact can be found to have; a choice is only ever made by a person
FOUND = (FieldType.NUMBER, FieldType.YES_NO, FieldType.VERSION, FieldType.DATE, FieldType.TEXT)


def kind_of(value: Any) -> FieldType:
    """What a value looks like by itself. Text that looks like an address is no version."""
    if isinstance(value, bool):
        return FieldType.YES_NO
    if isinstance(value, int | float):
        return FieldType.NUMBER
    text = str(value)
    if _DATE.match(text):
        return FieldType.DATE
    if len(text) <= 64 and _VERSION.match(text) and not _ADDRESS.match(text):
        return FieldType.VERSION
    return FieldType.TEXT


def type_of(counts: Mapping[FieldType, int]) -> tuple[FieldType, bool] | None:
    """The type of a fact by how many of its values look like each, and whether it is mixed: no type has 99% of them,
    and the commonest is taken. None where there is no value."""
    total = sum(counts.values())
    if not total:
        return None
    texts = sum(counts.get(t, 0) for t in _TEXTS)
    shares = {**counts, FieldType.TEXT: texts}
    for kind in (FieldType.NUMBER, FieldType.YES_NO, FieldType.VERSION, FieldType.DATE, FieldType.TEXT):
        if shares.get(kind, 0) >= SHARE * total:
            return kind, False
    return max((FieldType.TEXT, FieldType.NUMBER, FieldType.YES_NO), key=lambda k: shares.get(k, 0)), True


def fits(value: Any, kind: FieldType) -> bool:
    """Whether a reported value counts for a fact of the type; one that does not is missing in rules.

    A version is one that holds a digit: “unknown” and “n/a” are none, though they could be compared as versions.
    """
    match kind:
        case FieldType.NUMBER:
            return isinstance(value, int | float) and not isinstance(value, bool)
        case FieldType.YES_NO:
            return isinstance(value, bool)
        case FieldType.DATE:
            return isinstance(value, str) and _DATE.match(value) is not None
        case FieldType.VERSION:
            return isinstance(value, str) and is_version(value) and any("0" <= c <= "9" for c in value)
    return isinstance(value, str)
