"""Which type a fact has, and which of its values count."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from herald_core.facts import FOUND, fits, kind_of, type_of
from herald_core.rules import FieldType

T = FieldType
VALUES = st.one_of(st.booleans(), st.integers(-(10**9), 10**9), st.floats(-1e6, 1e6), st.text(max_size=12))


@pytest.mark.parametrize(
    ("value", "kind"),
    [
        (True, T.YES_NO),
        (0, T.NUMBER),
        (3.5, T.NUMBER),
        ("5.2.0", T.VERSION),
        ("v5.2-rc.1", T.VERSION),
        ("10.0.0.1", T.TEXT),
        ("5", T.TEXT),
        ("2026-11-23", T.DATE),
        ("2026-13-23", T.TEXT),
        ("", T.TEXT),
        ("5.2\n", T.TEXT),
        ("1." * 60 + "1", T.TEXT),
    ],
)
def test_what_a_value_looks_like(value: Any, kind: FieldType) -> None:
    assert kind_of(value) is kind


@pytest.mark.parametrize(
    ("counts", "found"),
    [
        ({}, None),
        ({T.NUMBER: 1}, (T.NUMBER, False)),
        ({T.NUMBER: 99, T.TEXT: 1}, (T.NUMBER, False)),
        ({T.NUMBER: 98, T.TEXT: 2}, (T.NUMBER, True)),
        ({T.VERSION: 99, T.TEXT: 1}, (T.VERSION, False)),
        ({T.VERSION: 60, T.TEXT: 30, T.DATE: 10}, (T.TEXT, False)),
        ({T.VERSION: 30, T.TEXT: 25, T.NUMBER: 45}, (T.TEXT, True)),
        ({T.YES_NO: 3, T.NUMBER: 1}, (T.YES_NO, True)),
    ],
)
def test_a_type_needs_nearly_all_values(counts: dict[FieldType, int], found: Any) -> None:
    assert type_of(counts) == found


@given(st.lists(VALUES, min_size=1, max_size=40))
def test_where_a_type_is_found_nearly_all_values_count(values: list[Any]) -> None:
    counts: dict[FieldType, int] = {}
    for value in values:
        counts[kind_of(value)] = counts.get(kind_of(value), 0) + 1
    found = type_of(counts)
    assert found is not None and found[0] in FOUND
    kind, mixed = found
    share = sum(fits(v, kind) for v in values) / len(values)
    assert mixed or share >= 0.99


@pytest.mark.parametrize("value", ["unknown", "n/a", "", "5 2", 5, None, True])
def test_what_is_no_version_does_not_count_as_one(value: Any) -> None:
    assert not fits(value, T.VERSION)
