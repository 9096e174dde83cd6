"""The sieve, who was just missed, and what is worth a look."""

import pytest

from herald.groups.sieve import Sieve, compute_sieve
from herald.http.errors import InvalidRule
from tests.factories import NOW, make_device, make_devices

pytestmark = pytest.mark.django_db


def of(rule: str) -> Sieve:
    return compute_sieve(rule, limit=50, now=NOW)


def test_each_line_says_what_it_lets_through_alone_and_after_the_others() -> None:
    make_devices(3, tags=["lab"], firmware="5.1.0")
    make_devices(2, tags=["lab"], firmware="6.0.0")
    make_device(firmware="5.0.0")

    found = of("tag = lab and firmware < 5.2 and everything")

    assert [(x.counts.alone, x.counts.left) for x in found.lines] == [(5, 5), (4, 3), (6, 3)]
    assert (found.count, found.fleet) == (3, 6)


def test_a_device_that_fails_one_line_is_just_missed_with_its_own_value() -> None:
    make_device(name="near", tags=["frost_zone"], firmware="5.1.0")
    make_device(name="far", tags=[], firmware="6.0.0")

    found = of("tag = frost-zone and firmware < 5.2.0")

    assert found.count == 0
    assert [(m.device.name, m.line, m.value) for m in found.missed] == [("near", "tag = frost-zone", "frost_zone")]
    assert "1 letter differs" in found.missed[0].why


def test_the_near_miss_that_explains_an_empty_group_is_worth_a_look() -> None:
    make_devices(2, tags=["frost_zone"])

    notes = {n.kind: n for n in of("tag = frost-zone").notes}

    assert (notes["near"].word, notes["near"].instead_of, notes["near"].count) == ("frost_zone", "frost-zone", 2)
    assert notes["near"].rule == "tag = frost_zone"
    assert notes["absent"].word == "frost-zone"


def test_devices_without_the_value_are_counted_beside_the_line() -> None:
    make_devices(2, firmware=None)
    make_device(firmware="5.0.0")

    found = of("firmware < 5.2 and tag != lab")

    assert [x.missing for x in found.lines] == [2, 0]
    note = next(n for n in found.notes if n.kind == "missing")
    assert (note.count, note.rule) == (2, "firmware is missing")
    assert sum(1 for n in of("firmware is missing").notes if n.kind == "missing") == 0


def test_a_rule_of_one_line_has_no_near_misses() -> None:
    make_device(tags=["lab"])

    assert (of("tag = spare").missed_count, of("tag = spare").missed) == (0, [])


def test_very_many_lines_are_counted_with_the_last_standing_for_the_rest() -> None:
    make_devices(2, tags=["lab"])

    found = of(" and ".join(["tag = lab"] * 45 + ["tag = spare"]))

    assert len(found.lines) == 40
    assert [x.counts.left for x in found.lines] == [2] * 39 + [0]


def test_a_wrong_rule_is_refused_with_its_place() -> None:
    with pytest.raises(InvalidRule, match="column 5"):
        of("tag lab")
