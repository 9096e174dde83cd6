"""The rule that is proposed for a set of devices."""

from datetime import UTC, datetime
from random import Random
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from herald_core.rules import FieldSpec, FieldType, Vocabulary, compile_predicate, parse, to_text
from herald_core.rules.propose import propose

NOW = datetime(2026, 11, 23, tzinfo=UTC)
WORDS = Vocabulary.with_fields(
    (
        FieldSpec(key="crop", type=FieldType.CHOICE, label="Crop", choices=("olive", "vine"), source="attribute"),
        FieldSpec(key="block", type=FieldType.NUMBER, label="Block", source="attribute"),
        FieldSpec(key="planted", type=FieldType.DATE, label="Planted", source="attribute"),
        FieldSpec(key="lit", type=FieldType.YES_NO, label="Lit", source="attribute"),
    )
)


def fleet(count: int, seed: int = 7) -> list[dict[str, Any]]:
    rng = Random(seed)
    records = []
    for index in range(count):
        record: dict[str, Any] = {
            "uid": f"U{index}",
            "model": rng.choice(["Sill 400", "Sill 380", "Rill V2"]),
            "site": rng.choice(["Amber", "Juniper", "Marrow", None]),
            "firmware": rng.choice(["5.0.9", "5.1.6", "5.2.0", "5.10.0", None]),
            "tag": frozenset(rng.sample(["frost-zone", "high-terrace", "lab", "spare"], rng.randrange(0, 3))),
            "crop": rng.choice(["olive", "vine", None]),
            "block": rng.choice([1, 2, 3.5, 12]),
            "planted": rng.choice(["2024-03-01", "2025-04-01"]),
            "lit": rng.choice([True, False, None]),
        }
        records.append({k: v for k, v in record.items() if v is not None})
    return records


def matched(rule: str, records: list[dict[str, Any]]) -> set[int]:
    holds = compile_predicate(parse(rule, WORDS), WORDS, NOW)
    return {i for i, r in enumerate(records) if holds(r)}


@pytest.mark.parametrize(
    ("rule", "lines"),
    [
        ("site = Amber", 1),
        ('model = "Sill 400" and tag any of (frost-zone, high-terrace) and firmware < 5.2.0', 3),
        ("firmware >= 5.2.0 and block < 3", 2),
        ("crop is missing and not tag = spare", 2),
        ("planted = 2025-04-01 and lit = no", 2),
        ("everything", 1),
    ],
)
def test_a_set_made_by_a_rule_gets_one_that_is_exact_and_no_longer(rule: str, lines: int) -> None:
    records = fleet(900)
    wanted = matched(rule, records)
    proposal = propose(records, wanted, WORDS)
    text = to_text(proposal.rule)
    assert (proposal.missing, proposal.extra) == (0, 0)
    assert matched(text, records) == wanted, text
    assert text.count(" and ") < lines, text


def test_two_unlike_sets_are_found_beside_each_other() -> None:
    records = fleet(900)
    wanted = matched("(site = Amber and lit = yes) or (site = Marrow and crop = vine)", records)
    proposal = propose(records, wanted, WORDS)
    assert matched(to_text(proposal.rule), records) == wanted


def test_nobody_is_no_set_to_find_a_rule_for() -> None:
    with pytest.raises(ValueError, match="nobody"):
        propose(fleet(5), [], WORDS)


def test_devices_that_nothing_tells_apart_get_the_nearest_rule_and_what_differs() -> None:
    same = {"model": "Sill 400", "site": "Amber", "tag": frozenset()}
    records = [dict(same), dict(same), {"model": "Rill V2", "site": "Amber", "tag": frozenset({"lab"})}]
    proposal = propose(records, [0], WORDS)
    assert (proposal.missing, proposal.extra) == (0, 1)
    assert matched(to_text(proposal.rule), records) == {0, 1}


@given(st.integers(0, 10_000), st.integers(1, 40), st.data())
def test_what_a_proposal_says_of_itself_is_what_its_rule_does(seed: int, count: int, data: st.DataObject) -> None:
    records = fleet(count, seed)
    wanted = data.draw(st.sets(st.integers(0, count - 1), min_size=1))
    proposal = propose(records, wanted, WORDS)
    found = matched(to_text(proposal.rule), records)
    assert proposal.missing == len(wanted - found)
    assert proposal.extra == len(found - wanted)
    assert proposal.missing + proposal.extra <= count - len(wanted), "no worse than taking everybody"


def test_words_that_need_quotes_and_versions_that_are_none_do_not_break_a_rule() -> None:
    records = [
        {"site": 'The "old" mill', "firmware": "not a version", "tag": frozenset({"a"})},
        {"site": "and", "firmware": "5.1.0", "tag": frozenset()},
        {"site": "and", "firmware": "", "tag": frozenset({"a", "b"})},
    ]
    for wanted in ({0}, {1}, {2}, {1, 2}):
        proposal = propose(records, wanted, WORDS)
        assert (proposal.missing, proposal.extra) == (0, 0)
        assert matched(to_text(proposal.rule), records) == wanted


def test_a_rule_that_would_need_a_long_list_is_said_in_another_way() -> None:
    records = [{"site": f"Site {i}", "model": "Sill 400" if i < 30 else "Rill V2"} for i in range(60)]
    text = to_text(propose(records, range(30), WORDS).rule)
    assert text == 'model = "Sill 400"'
