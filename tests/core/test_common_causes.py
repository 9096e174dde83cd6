"""What the failed devices share: found where it is, and not where it is not."""

from random import Random
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import fisher_exact, hypergeom

from herald_core.common_causes import adjusted, find_common_causes, risk_ratio, shared_words
from herald_core.rules import FieldSpec, FieldType, Vocabulary, to_text

WORDS = Vocabulary.with_fields(())


def fleet(count: int, seed: int) -> list[dict[str, Any]]:
    rng = Random(seed)
    return [
        {
            "model": rng.choice(["Sill 400", "Sill 380", "Rill V2"]),
            "hardware": rng.choice(["A", "B"]),
            "firmware": rng.choice(["5.0.9", "5.1.6", "5.10.0"]),
            "site": rng.choice(["Amber", "Juniper", "Marrow"]),
            "tag": frozenset(rng.sample(["frost-zone", "lab"], rng.randrange(0, 3))),
        }
        for _ in range(count)
    ]


def failing(records: list[dict[str, Any]], rate: Any, seed: int = 1) -> list[bool]:
    rng = Random(seed)
    return [rng.random() < rate(r) for r in records]


@pytest.mark.parametrize(
    ("rate", "rule"),
    [
        (lambda r: 0.5 if r["site"] == "Marrow" else 0.01, "site = Marrow"),
        (lambda r: 0.5 if r["firmware"] in ("5.0.9", "5.1.6") else 0.01, "firmware < 5.10.0"),
        (lambda r: 0.5 if "lab" in r["tag"] else 0.01, "tag = lab"),
        (lambda r: 0.6 if r["site"] == "Amber" and r["hardware"] == "A" else 0.01, "hardware = A and site = Amber"),
    ],
)
def test_a_cause_is_named_first(rate: Any, rule: str) -> None:
    records = fleet(900, 3)
    failed = failing(records, rate)
    found = find_common_causes(records, failed, records[:90], WORDS)
    assert " and ".join(sorted(to_text(c) for c in found[0].clauses)) == rule
    assert found[0].failed_with + found[0].failed_without == sum(failed)
    assert found[0].tried_with + found[0].tried_without == 900
    assert 0 < found[0].untried < 90
    assert found[0].rate_without < 0.05 < found[0].failed_with / found[0].tried_with
    assert found[0].risk_ratio > 10


def test_two_causes_are_both_named() -> None:
    records = fleet(1500, 4)
    failed = failing(records, lambda r: 0.6 if r["site"] == "Marrow" else 0.3 if "lab" in r["tag"] else 0.01)
    named = [to_text(c.clauses[0]) for c in find_common_causes(records, failed, [], WORDS)]
    assert named[:2] == ["site = Marrow", "tag = lab"]


@pytest.mark.parametrize("seed", range(12))
def test_no_cause_is_claimed_where_there_is_none(seed: int) -> None:
    records = fleet(600, seed)
    assert find_common_causes(records, failing(records, lambda r: 0.05, seed), [], WORDS) == []


def test_two_that_failed_together_are_no_cause() -> None:
    records = [{**r, "site": "Rare" if i < 2 else "Amber"} for i, r in enumerate(fleet(900, 2))]
    failed = [i < 2 or i == 700 for i in range(900)]  # by chance alone one time in 100,000, and yet only two devices
    assert find_common_causes(records, failed, [], WORDS) == []


def test_nobody_failed_everybody_failed_or_nobody_was_tried() -> None:
    records = fleet(40, 1)
    for outcome in ([False] * 40, [True] * 40):
        assert find_common_causes(records, outcome, [], WORDS) == []
    assert find_common_causes([], [], records, WORDS) == []


def test_the_statistics_are_those_of_the_textbook() -> None:
    # 8 of 10 failed with it, 2 of 40 without
    table = [[8, 2], [2, 38]]
    assert hypergeom.sf(8 - 1, 50, 10, 10) == pytest.approx(fisher_exact(table, alternative="greater").pvalue)
    assert risk_ratio(8, 10, 10, 50) == pytest.approx((8.5 / 11) / (2.5 / 41))
    # Benjamini and Hochberg's own example is monotone and never below p
    p = np.array([0.01, 0.04, 0.03, 0.005])
    assert adjusted(p) == pytest.approx([0.02, 0.04, 0.04, 0.02])


@given(st.lists(st.floats(0, 1), min_size=1, max_size=30))
def test_adjusted_chances_are_never_smaller_and_keep_their_order(values: list[float]) -> None:
    p = np.array(values)
    q = adjusted(p)
    assert (q >= p - 1e-12).all()
    assert (q <= 1).all()
    order = np.argsort(p, kind="stable")
    assert (np.diff(q[order]) >= -1e-12).all()


@given(st.integers(1, 60), st.integers(1, 60), st.data())
def test_a_risk_is_greater_than_one_only_where_more_of_those_with_it_failed(
    with_it: int, without: int, data: st.DataObject
) -> None:
    bad_with, bad_without = data.draw(st.integers(0, with_it)), data.draw(st.integers(0, without))
    ratio = risk_ratio(bad_with, with_it, bad_with + bad_without, with_it + without)
    inverse = risk_ratio(bad_without, without, bad_with + bad_without, with_it + without)
    assert ratio * inverse == pytest.approx(1)


def test_values_that_no_rule_can_name_are_passed_over() -> None:
    records = [{**r, "firmware": "not a version" if i % 3 else "5.1.0"} for i, r in enumerate(fleet(300, 9))]
    failed = failing(records, lambda r: 0.6 if r["site"] == "Marrow" else 0.01)
    assert to_text(find_common_causes(records, failed, [], WORDS)[0].clauses[0]) == "site = Marrow"


def test_devices_that_lack_a_number_or_a_yes_are_no_fault() -> None:
    fields = (
        FieldSpec(key="battery", type=FieldType.NUMBER, label="Battery"),
        FieldSpec(key="roams", type=FieldType.YES_NO, label="Roams"),
    )
    records: list[dict[str, Any]] = [
        {**r, "battery": None if i % 3 else i % 40, "roams": None if i % 2 else i % 4 == 0}
        for i, r in enumerate(fleet(600, 5))
    ]
    failed = [r["battery"] is not None and r["battery"] < 12 for r in records]
    found = find_common_causes(records, failed, [], Vocabulary.with_fields(fields))
    assert to_text(found[0].clauses[0]).startswith("battery < 1")
    # what is to be explained explains nothing
    assert find_common_causes(records, failed, [], Vocabulary.with_fields(fields), but=["battery"]) == []


@pytest.mark.parametrize(
    ("devices", "of", "share", "words"),
    [
        (1900, 2300, 0.0431, "1,900 of the 2,300, and 4.3% of the others"),
        (2300, 2300, 0.0, "all 2,300, and no other device"),
        (2299, 2300, 0.00004, "2,299 of the 2,300, and under 0.1% of the others"),
        (40, 2300, 0.412, "40 of the 2,300, and 41% of the others"),
        (3, 3, 0.99996, "all 3, and 99.9% of the others"),
    ],
)
def test_what_is_shared_is_never_rounded_to_nobody_or_to_all(devices: int, of: int, share: float, words: str) -> None:
    assert shared_words(devices, of, share) == words
