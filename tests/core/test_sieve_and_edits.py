"""The sieve counted from masks, words that look alike, and what a change does to a state."""

from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st

from herald_core.edits import Change, edited, fields_touched
from herald_core.rules import Vocabulary, parse, to_text
from herald_core.rules.sieve import MOST_LINES, compared_field, count_lines, lines_of, named_values, sieve_lines
from herald_core.text import looks_like

tags = st.lists(st.sampled_from("abcd"), unique=True)
states = st.fixed_dictionaries(
    {
        "name": st.just("n"),
        "tags": tags,
        "attributes": st.dictionaries(st.sampled_from("xyz"), st.integers(0, 3)),
        "site": st.sampled_from([None, 1, 2]),
    }
)
changes = st.builds(
    Change,
    replace=st.sampled_from([{}, {"site": None}, {"site": 2}, {"tags": ["a"]}]),
    set_attributes=st.dictionaries(st.sampled_from("xyz"), st.integers(0, 3)),
    clear_attributes=st.lists(st.sampled_from("xyz")).map(tuple),
    add_tags=tags.map(tuple),
    remove_tags=tags.map(tuple),
)


@given(st.lists(st.lists(st.booleans(), min_size=3, max_size=3), max_size=20))
def test_counts_from_masks_are_those_of_the_devices(devices: list[list[bool]]) -> None:
    masks = Counter(sum(1 << i for i, true in enumerate(device) if true) for device in devices)
    for index, line in enumerate(count_lines(masks, 3)):
        assert line.alone == sum(d[index] for d in devices)
        assert line.left == sum(all(d[: index + 1]) for d in devices)
        assert line.stopped_here_only == sum(not d[index] and d.count(False) == 1 for d in devices)


def test_lines_beyond_what_a_mask_holds_are_one() -> None:
    rule = parse(" and ".join(f'name != "{n}"' for n in range(MOST_LINES + 5)), Vocabulary())
    lines = sieve_lines(rule)
    assert (len(lines), len(lines_of(rule))) == (MOST_LINES, MOST_LINES + 5)
    assert to_text(lines[-1]).count(" and ") == 5


def test_what_a_rule_compares_is_found_in_all_its_parts() -> None:
    rule = parse(
        'tag = lab or not (model any of (A, "B 1") and tag none of (lab, x)) or serial contains q', Vocabulary()
    )
    assert named_values(rule) == {"tag": ["lab", "x"], "model": ["A", "B 1"]}
    line = parse("not firmware < 5", Vocabulary())
    assert (compared_field(line), compared_field(parse("site is set", Vocabulary()))) == ("firmware", None)


@pytest.mark.parametrize(
    ("word", "other", "alike"),
    [
        ("frost-zone", "frost_zone", True),
        ("frost-zone", "Frost Zone", True),
        ("frost-zone", "forst-zone", False),
        ("frost-zone", "frostzonr", True),
        ("olive", "olives", True),
        ("lab", "lap", False),
        ("block-1", "block-2", False),
        ("same", "same", False),
    ],
)
def test_words_that_are_probably_one(word: str, other: str, alike: bool) -> None:
    assert looks_like(word, other) is alike
    assert looks_like(other, word) is alike


@given(states, changes)
def test_an_edit_made_twice_is_the_same_as_once(state: dict[str, object], change: Change) -> None:
    once = edited(state, change)
    assert edited(once, change) == once
    assert len(set(once["tags"])) == len(once["tags"])
    assert set(change.add_tags) <= set(once["tags"])
    assert change.set_attributes.items() <= once["attributes"].items()


@given(states, changes)
def test_what_differs_is_among_the_fields_touched(state: dict[str, object], change: Change) -> None:
    after, touched = edited(state, change), fields_touched(change)
    before = dict(state)
    if after["tags"] != before["tags"]:
        assert "tag" in touched
    if after["site"] != before["site"]:
        assert {"site", "region", "time_zone"} <= touched
    attributes = before["attributes"]
    assert isinstance(attributes, dict)
    differing = {k for k in "xyz" if after["attributes"].get(k) != attributes.get(k)}
    assert differing <= touched
