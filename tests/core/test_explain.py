"""Explaining: every kind of value and of miss, in words."""

from datetime import timedelta
from typing import Any

import pytest

from herald_core.rules import explain, parse
from herald_core.rules.explain import age_words, value_words
from tests.core.strategies import NOW, VOCABULARY

DEVICE: dict[str, Any] = {
    "name": "sill-0417",
    "model": "Sill 400",
    "firmware": "5.1.4",
    "tag": frozenset({"pilot"}),
    "custodian_tag": frozenset(),
    "battery": 20,
    "leased": True,
    "first_seen": NOW - timedelta(days=40),
}


@pytest.mark.parametrize(
    ("rule", "true", "value", "why"),
    [
        ("model = Sill400", False, "Sill 400", "close: Sill 400 is nearly Sill400, 1 letter differs"),
        ("model = Vane", False, "Sill 400", "has Sill 400"),
        ("firmware >= 5.2", False, "5.1.4", "does not fit"),
        ("battery any of (15, 30)", False, "20", "off by 5"),
        ("leased = no", False, "yes", "does not fit"),
        ("tag all of (pilot, lab)", False, "pilot", "has pilot"),
        ("custodian_tag = on-call", False, "none", "no value"),
        ("name = x or battery > 10", True, "name sill-0417; battery 20", "true: battery > 10"),
        ("name = x or battery > 90", False, "name sill-0417; battery 20", "none of its parts is true"),
        ("not (tag = pilot or battery > 90)", False, "tag pilot; battery 20", "because tag = pilot is true"),
        ("not tag = lab", True, "pilot", ""),
        ("everything", True, "", ""),
    ],
)
def test_each_line_says_its_value_and_why(rule: str, true: bool, value: str, why: str) -> None:
    member, (line,) = explain(parse(rule, VOCABULARY), DEVICE, VOCABULARY, NOW)
    assert (member, line.true, line.value) == (true, true, value)
    assert why in line.why


def test_ages_are_in_their_largest_unit() -> None:
    assert [age_words(timedelta(seconds=s)) for s in (5, 125, 7_300, 200_000)] == ["5 s", "2 min", "2 h", "2 d"]
    assert value_words(DEVICE["first_seen"], NOW) == "2026-10-14 12:00 UTC (40 d ago)"
    assert value_words(None, NOW) == "no value"
