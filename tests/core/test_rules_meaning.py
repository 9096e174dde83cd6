"""What rules mean, for the engine in memory; the server's tests hold the database to it."""

from datetime import timedelta
from typing import Any

import pytest

from herald_core.rules import compile_predicate, depends_on_time, explain, parse
from tests.core.strategies import NOW, VOCABULARY

DEVICE: dict[str, Any] = {
    "uid": "LG-1",
    "name": "sill-0417",
    "model": "Sill 400",
    "firmware": "5.1.4",
    "site": None,
    "tag": frozenset({"frost_zone", "pilot"}),
    "custodian_tag": frozenset(),
    "group": frozenset({"Bench"}),
    "presence": "late",
    "battery": 20,
    "leased": False,
    "made_on": "2026-11-16",
    "last_check_in": NOW - timedelta(days=7),
}


def matches(rule: str, **change: Any) -> bool:
    return compile_predicate(parse(rule, VOCABULARY), VOCABULARY, NOW)({**DEVICE, **change})


@pytest.mark.parametrize(
    ("rule", "expected"),
    [
        # a missing value makes a clause false, and so its negation true
        ("site = x", False),
        ("site != x", False),
        ("not site = x", True),
        ("site is missing", True),
        ("site none of (x)", False),
        # sets: an empty one is a value
        ("tag = pilot", True),
        ("tag = frost-zone", False),
        ("tag != spare", True),
        ("tag none of (spare, lab)", True),
        ("tag all of (pilot, frost_zone)", True),
        ("tag all of (pilot, lab)", False),
        ("tag contains ROST", True),
        ("custodian_tag is missing", True),
        ("custodian_tag != x", True),
        ("custodian_tag any of (x)", False),
        ("group = Bench", True),
        # both ends are in
        ("battery between 20 and 30", True),
        ("battery between 10 and 20", True),
        ("battery < 20", False),
        ("battery any of (1, 20)", True),
        # exact, but text operators ignore case
        ("model = sill", False),
        ('model = "sill 400"', False),
        ("model contains SILL", True),
        ('model like "s*4?0"', True),
        ('model like "s*4?"', False),
        # versions by order, not by letters
        ("firmware < 5.10", True),
        ("firmware = 5.1.4.0", True),
        ("firmware starts with 5.1", True),
        # ages: within includes exactly seven days, older than does not
        ("last_check_in within 7d", True),
        ("last_check_in older than 7d", False),
        ("last_check_in older than 6d", True),
        ("last_check_in = 2026-11-16", True),
        ("last_check_in > 2026-11-16", False),
        ("last_check_in <= 2026-11-16", True),
        ("made_on within 1w", False),
        ("made_on within 8d", True),
        ("leased = no", True),
        ("leased != yes", True),
        ("everything", True),
        ("not everything", False),
        ("presence any of (late, silent)", True),
    ],
)
def test_meaning(rule: str, expected: bool) -> None:
    assert matches(rule) is expected


def test_a_future_time_is_not_older() -> None:
    assert not matches("last_check_in older than 45m", last_check_in=NOW + timedelta(hours=1))


def test_which_rules_follow_time() -> None:
    assert depends_on_time(parse("presence = late", VOCABULARY))
    assert depends_on_time(parse("tag = a or not made_on within 7d", VOCABULARY))
    assert not depends_on_time(parse("last_check_in > 2026-01-01", VOCABULARY))


def test_explaining_says_how_near_a_miss_was() -> None:
    rule = 'model = "Sill 400" and tag any of (frost-zone, high-terrace) and battery < 15 and not group = Bench'
    member, lines = explain(parse(rule, VOCABULARY), DEVICE, VOCABULARY, NOW)
    assert not member
    assert [line.true for line in lines] == [True, False, False, False]
    assert lines[0].value == "Sill 400"
    assert "frost_zone is nearly frost-zone, 1 letter differs" in lines[1].why
    assert lines[2].why == "off by 5"
    assert "group = Bench" in lines[3].why


def test_explaining_a_missing_value_and_an_age() -> None:
    _, lines = explain(parse("site = x and last_check_in within 1d", VOCABULARY), DEVICE, VOCABULARY, NOW)
    assert "no value" in lines[0].why
    assert lines[1].why == "that is 7 d ago; the limit is 1d"
