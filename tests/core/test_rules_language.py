"""The rule language: reading, printing, errors and limits."""

import pytest
from hypothesis import given

from herald_core.rules import RuleError, Vocabulary, groups_of, parse, to_text
from herald_core.rules.rename import rename_value
from herald_core.rules.tree import And, Clause, Everything, Node, Not, Op, Or
from tests.core.strategies import VOCABULARY, rule_nodes


def read(text: str) -> Node:
    return parse(text, VOCABULARY)


@given(rule_nodes())
def test_printing_and_reading_lose_nothing(node: Node) -> None:
    text = to_text(node)
    assert parse(text, VOCABULARY) == node
    assert to_text(parse(text, VOCABULARY)) == text


def test_a_rule_of_several_lines() -> None:
    node = read(
        'model = "Sill 400"\nAND tag Any Of (frost-zone, high-terrace)\nand firmware < 5.2.0\nand not group = "Bench"'
    )
    assert isinstance(node, And)
    assert len(node.operands) == 4
    assert node.operands[1] == Clause("tag", Op.ANY_OF, ("frost-zone", "high-terrace"))
    assert node.operands[3] == Not(Clause("group", Op.EQ, ("Bench",)))
    assert groups_of(node) == {"Bench"}


def test_and_binds_closer_than_or() -> None:
    node = read("uid = a or uid = b and uid = c")
    assert isinstance(node, Or)
    assert isinstance(node.operands[1], And)


def test_everything_and_quoted_keywords() -> None:
    assert read("everything") == Everything()
    assert read('name = "and"') == Clause("name", Op.EQ, ("and",))
    assert read(r'name = "say \"hi\" \\"') == Clause("name", Op.EQ, ('say "hi" \\',))


@pytest.mark.parametrize(
    ("text", "line", "column", "says", "near"),
    [
        ("", 1, 1, "empty", None),
        ("modle = x", 1, 1, "a field called modle", "model"),
        ("model x", 1, 7, "operator", None),
        ("model = ", 1, 8, "value", None),
        ("site = Amber Fold", 1, 14, "quotes", '"Amber Fold"'),
        ('name = "open', 1, 8, "not closed", None),
        ("uid = a\nand nmae = b", 2, 5, "a field called nmae", "name"),
        ("(uid = a", 1, 9, "“)”", None),
        ("uid = a)", 1, 8, "closes nothing", None),
        ("battery = many", 1, 11, "number", None),
        ("battery contains 3", 1, 9, "does not apply", None),
        ("presence = slient", 1, 12, "none of the choices", "silent"),
        ("leased = maybe", 1, 10, "yes or no", None),
        ("last_check_in older than 7x", 1, 26, "length of time", None),
        ("made_on = 2026-02-30", 1, 11, "no day", None),
        ("tag any of frost", 1, 12, "“(”", None),
        ("firmware < 5 2", 1, 14, "quotes", None),
        ("uid ! a", 1, 5, "stands alone", "!="),
        ("group starts with a", 1, 7, "does not apply", None),
    ],
)
def test_errors_say_what_where_and_what_would_be_right(
    text: str, line: int, column: int, says: str, near: str | None
) -> None:
    with pytest.raises(RuleError) as caught:
        read(text)
    problem = caught.value.problems[0]
    assert (problem.line, problem.column) == (line, column)
    assert says in problem.message
    if near:
        assert problem.closest == near


def test_all_wrong_fields_and_values_are_told_at_once() -> None:
    with pytest.raises(RuleError) as caught:
        read("modle = x and battery < full and tag = lab")
    assert [p.column for p in caught.value.problems] == [1, 25]
    assert caught.value.problems[0].closest == "model"
    assert "model" in caught.value.problems[0].expected


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("uid = " + "x" * 1_000_000, "at most 10 000"),
        (" and ".join(["uid = a"] * 201), "at most 200 clauses"),
        ("not " * 40 + "uid = a", "at most 30 deep"),
        ("(" * 40 + "uid = a" + ")" * 40, "at most 30 deep"),
        ("uid any of (" + ",".join(["a"] * 1001) + ")", "at most 1 000 values"),
        ("battery = 1234567890123456", "at most 15 digits"),
    ],
)
def test_limits_are_refused_with_their_number(text: str, says: str) -> None:
    with pytest.raises(RuleError) as caught:
        read(text)
    assert says in caught.value.problems[0].message


def test_the_largest_allowed_rule_is_read() -> None:
    assert isinstance(read(" and ".join(["uid = a"] * 200)), And)
    read("uid any of (" + ",".join(["a"] * 1000) + ")")
    read("(" * 30 + "uid = a" + ")" * 30)


def test_renaming_a_group_touches_only_group_clauses() -> None:
    rule = 'name = Old\n  and (group = Old or not group any of ("Old", Other))'
    renamed = rename_value(rule, "group", "Old", "New name", Vocabulary())
    assert renamed == 'name = Old\n  and (group = "New name" or not group any of ("New name", Other))'
