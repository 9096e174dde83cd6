"""Values of attributes, from people and from files."""

from datetime import UTC, date, datetime
from typing import Any

import pytest

from herald_core.properties import DoesNotFit, read_property, read_tag
from herald_core.rules import FieldSpec, FieldType


def spec(kind: FieldType, **more: Any) -> FieldSpec:
    return FieldSpec(key="k", type=kind, label="K", **more)


@pytest.mark.parametrize(
    ("kind", "given", "stored"),
    [
        (FieldType.NUMBER, "12", 12),
        (FieldType.NUMBER, " 2.50 ", 2.5),
        (FieldType.NUMBER, 7.0, 7),
        (FieldType.YES_NO, "Yes", True),
        (FieldType.YES_NO, False, False),
        (FieldType.YES_NO, 1, True),
        (FieldType.DATE, "2026-11-23", "2026-11-23"),
        (FieldType.DATE, datetime(2026, 11, 23, 8, tzinfo=UTC), "2026-11-23"),
        (FieldType.DATE, date(2024, 2, 29), "2024-02-29"),
        (FieldType.VERSION, "v5.2", "v5.2"),
        (FieldType.TEXT, 4711.0, "4711"),
        (FieldType.TEXT, "e\u0301", "é"),
        (FieldType.TEXT, "007", "007"),
    ],
)
def test_what_fits_is_stored_in_one_form(kind: FieldType, given: Any, stored: Any) -> None:
    result = read_property(given, spec(kind))

    assert result == stored
    assert type(result) is type(stored)


@pytest.mark.parametrize(
    ("kind", "given", "says"),
    [
        (FieldType.NUMBER, "1,5", "point for fractions"),
        (FieldType.NUMBER, "nan", "no number"),
        (FieldType.NUMBER, float("nan"), "below 1e15"),
        (FieldType.NUMBER, float("inf"), "below 1e15"),
        (FieldType.NUMBER, True, "no number"),
        (FieldType.YES_NO, "perhaps", "neither"),
        (FieldType.DATE, "23.11.2026", "no day"),
        (FieldType.VERSION, "5 2", "no version"),
        (FieldType.TEXT, " ", "characters"),
        (FieldType.TEXT, "a\x00b", "characters"),
        (FieldType.TEXT, "x" * 2001, "characters"),
    ],
)
def test_what_does_not_fit_is_refused_with_what_would(kind: FieldType, given: Any, says: str) -> None:
    with pytest.raises(DoesNotFit, match=says):
        read_property(given, spec(kind))


def test_a_choice_is_canonical_and_its_slips_are_guessed() -> None:
    mounting = spec(FieldType.CHOICE, choices=("Mast", "Wall"))

    assert read_property("mast", mounting) == "Mast"
    with pytest.raises(DoesNotFit, match="did you mean Wall"):
        read_property("Wal", mounting)


def test_tags_are_lower_case_with_dashes() -> None:
    assert read_tag(" Frost Zone ") == "frost-zone"
    with pytest.raises(DoesNotFit):
        read_tag("ölig")
