"""Documents that are wanted against those that are there."""

from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from herald_core.configuration import Verb, brief, compare, complete, digest_of, repeated

DEFAULTS = {"note": "", "size": 1}
values = st.one_of(st.none(), st.integers(0, 3), st.sampled_from(["", "a", "b"]))
documents = st.fixed_dictionaries({"rule": values}, optional={"note": values, "size": values})
sets = st.dictionaries(st.sampled_from("ABCDE"), documents, max_size=5)


def carry_out(present: dict[str, Any], wanted: dict[str, Any], *, deletes: bool) -> dict[str, Any]:
    """What is there once every difference is carried out, field by field."""
    after = {name: complete(d, DEFAULTS) for name, d in present.items()}
    for d in compare("things", wanted, present, DEFAULTS, deletes=deletes).differences:
        if d.verb is Verb.DELETE:
            del after[d.name]
        else:
            assert (d.name in after) == (d.verb is Verb.CHANGE)
            after[d.name] = complete(
                {**after.get(d.name, {}), **{k: new for k, (_, new) in d.fields.items()}}, DEFAULTS
            )
    return after


@given(sets, sets)
def test_what_is_wanted_is_there_afterwards_and_nothing_is_left_to_do(
    present: dict[str, Any], wanted: dict[str, Any]
) -> None:
    after = carry_out(present, wanted, deletes=True)
    assert set(after) == set(wanted)
    for name, document in wanted.items():
        assert complete(document, DEFAULTS).items() <= after[name].items()
    assert not compare("things", wanted, after, DEFAULTS, deletes=True).differences


@given(sets, sets)
def test_what_is_not_wanted_stays_and_is_named(present: dict[str, Any], wanted: dict[str, Any]) -> None:
    after = carry_out(present, wanted, deletes=False)
    stays = compare("things", wanted, present, DEFAULTS).stays
    assert stays == sorted(set(present) - set(wanted)) and set(stays) <= set(after)
    for name in stays:
        assert after[name] == complete(present[name], DEFAULTS)


@given(documents)
def test_a_default_that_is_said_and_one_that_is_left_out_are_the_same(document: dict[str, Any]) -> None:
    whole = complete(document, DEFAULTS)
    assert complete(brief(whole, DEFAULTS), DEFAULTS) == whole
    assert not compare("things", {"A": brief(whole, DEFAULTS)}, {"A": whole}, DEFAULTS).differences


@given(sets, sets, sets)
def test_the_digest_tells_when_the_world_has_moved(
    wanted: dict[str, Any], before: dict[str, Any], after: dict[str, Any]
) -> None:
    first, second = (compare("things", wanted, p, DEFAULTS, deletes=True).differences for p in (before, after))
    assert (digest_of(first) == digest_of(second)) == (first == second)


def test_differences_say_what_was_and_what_is_to_be() -> None:
    found = compare("things", {"A": {"note": "x"}, "B": {"size": 2}}, {"B": {"size": 3}, "C": {}}, DEFAULTS)
    assert [(d.name, d.verb, dict(d.fields), d.position) for d in found.differences] == [
        ("A", Verb.ADD, {"note": (None, "x")}, 0),
        ("B", Verb.CHANGE, {"size": (3, 2)}, 1),
    ]
    assert found.stays == ["C"] and repeated(["a", "b", "a"]) == ["a"]
