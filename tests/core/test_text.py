"""Text as rules compare it."""

import sys

from hypothesis import given
from hypothesis import strategies as st

from herald_core.text import FOLD_TABLE, closest, edit_distance, fold, is_storable


@given(st.text())
def test_folding_keeps_the_length_and_is_stable(text: str) -> None:
    assert len(fold(text)) == len(text)
    assert [fold(c) for c in text] == list(fold(text))


def test_folding_is_one_to_one() -> None:
    assert fold("İ") == "İ"  # its lower case has two characters, so it keeps itself
    assert fold("ΟΔΟΣ") == "οδοσ"  # no final sigma: each character by itself
    assert FOLD_TABLE[ord("Ä")] == ord("ä")
    beyond = (chr(code) for code in range(0x20000, sys.maxunicode + 1))
    assert not [c for c in beyond if c.lower() != c]


def test_closest_finds_slips_and_beginnings() -> None:
    assert closest("modle", ["model", "serial", "site"]) == "model"
    assert closest("firm", ["firmware", "family"]) == "firmware"
    assert closest("zzz", ["model"]) is None


def test_edit_distance() -> None:
    assert edit_distance("frost_zone", "frost-zone") == 1
    assert edit_distance("", "abc") == 3
    assert edit_distance("kitten", "sitting") == 3


def test_storable_text_has_no_nul_and_no_lone_surrogates() -> None:
    assert is_storable("é\n")
    assert not is_storable("a\x00")
    assert not is_storable("\ud800")
