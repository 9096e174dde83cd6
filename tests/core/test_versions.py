"""Versions: one total order, by hand-written examples and by a second reading of the rules."""

import itertools
from functools import cmp_to_key

import pytest
from hypothesis import given
from hypothesis import strategies as st

from herald_core.versions import is_version, version_key, version_key_or_none

ASCENDING = [
    "0",
    "0.0.1",
    "1.0.0-alpha",
    "1.0.0-alpha.1",
    "1.0.0-alpha.beta",
    "1.0.0-beta",
    "1.0.0-beta.2",
    "1.0.0-beta.11",
    "1.0.0-rc.1",
    "1.0.0",
    "4.9.2",
    "5.2",
    "5.2.1",
    "5.10",
    "5.a",
    "5.b.1",
    "a",
]


def test_examples_ascend() -> None:
    keys = [version_key(v) for v in ASCENDING]
    assert keys == sorted(keys)
    assert len(set(keys)) == len(keys)


@pytest.mark.parametrize(
    ("left", "right"),
    [("5.2", "5.2.0"), ("05", "5"), ("v5.2", "5.2"), ("5.2+build.7", "5.2"), ("5.2+b-1", "5.2"), ("1.0.0-01", "1-1")],
)
def test_equal_versions_have_equal_keys(left: str, right: str) -> None:
    assert version_key(left) == version_key(right)


@pytest.mark.parametrize("text", ["", " ", "5 2", "5\n", "x" * 65, "a\x00b", "\t"])
def test_what_is_no_version_is_refused(text: str) -> None:
    assert not is_version(text)
    assert version_key_or_none(text) is None
    with pytest.raises(ValueError, match="not a version"):
        version_key(text)


def _identifier(text: str) -> tuple[int, int, str]:
    return (0, int(text), "") if text.isascii() and text.isdigit() else (1, 0, text)


def _compare(left: str, right: str) -> int:
    """The order as the rules say it, compared step by step rather than by a key."""

    def split(version: str) -> tuple[list[str], str | None]:
        version = version.removeprefix("v").split("+")[0]
        release, dash, suffix = version.partition("-")
        return release.split("."), suffix if dash else None

    (a, a_suffix), (b, b_suffix) = split(left), split(right)
    for i in range(max(len(a), len(b))):
        x = _identifier(a[i] if i < len(a) else "0")
        y = _identifier(b[i] if i < len(b) else "0")
        if x != y:
            return -1 if x < y else 1
    if a_suffix is None or b_suffix is None:
        return (a_suffix is None) - (b_suffix is None)
    x_ids = [_identifier(i) for i in a_suffix.split(".")]
    y_ids = [_identifier(i) for i in b_suffix.split(".")]
    return (x_ids > y_ids) - (x_ids < y_ids)


segments = st.one_of(st.integers(0, 12).map(str), st.sampled_from(["00", "01", "a", "b", "rc", "é", ""]))
versions = st.builds(
    lambda v, release, suffix, build: v + ".".join(release) + suffix + build,
    st.sampled_from(["", "v"]),
    st.lists(segments, min_size=1, max_size=4),
    st.one_of(st.just(""), st.lists(segments, min_size=1, max_size=3).map(lambda s: "-" + ".".join(s))),
    st.sampled_from(["", "+1", "+a-b"]),
).filter(is_version)


@given(st.lists(versions, min_size=2, max_size=8))
def test_keys_order_as_the_rules_say(found: list[str]) -> None:
    by_rules = sorted(found, key=cmp_to_key(_compare))
    for left, right in itertools.pairwise(by_rules):
        expected = _compare(left, right)
        actual = (version_key(left) > version_key(right)) - (version_key(left) < version_key(right))
        assert actual == expected, (left, right)
