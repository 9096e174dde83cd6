"""What a person sees of all groups at once."""

from datetime import timedelta

import pytest

from herald.groups.members import change_members
from herald.groups.overview import groups_overview
from tests.factories import NOW, client_as, make_device, make_devices, make_static

pytestmark = pytest.mark.django_db
HOUR = timedelta(hours=1)


def test_a_fleet_without_groups_is_outside_of_them_all() -> None:
    make_devices(3)

    told = groups_overview(now=NOW)

    assert (told.devices, told.in_no_group, told.in_no_group_rule) == (3, 3, "everything")
    assert (told.changed, told.empty, told.equal, told.tags_once) == ([], [], [], [])


def test_what_changed_within_a_day_is_counted_the_most_first() -> None:
    a, b, c = make_devices(3)
    old, new = make_static("Old", [a]), make_static("New", [])
    change_members(old, add=[b.pk], remove=[a.pk], actor=None, now=NOW + 30 * HOUR)
    change_members(new, add=[a.pk, b.pk, c.pk], remove=[], actor=None, now=NOW + 31 * HOUR)

    told = groups_overview(now=NOW + 32 * HOUR)

    assert [(c.group.name, c.joined, c.left) for c in told.changed] == [("New", 3, 0), ("Old", 1, 1)]
    assert [c.group.name for c in groups_overview(now=NOW + 54.5 * HOUR).changed] == ["New"]
    assert groups_overview(now=NOW + 60 * HOUR).changed == []


def test_groups_of_the_same_devices_are_named_together() -> None:
    a, b, c = make_devices(3)
    make_static("One", [a, b])
    make_static("Same as one", [b, a])
    make_static("Other two", [b, c])
    make_static("Alone", [a])
    make_static("Alone too", [a])
    make_static("Nobody", [])
    make_static("Nobody too", [])

    told = groups_overview(now=NOW)

    assert [[g.name for g in same] for same in told.equal] == [["One", "Same as one"]]
    assert [g.name for g in told.empty] == ["Nobody", "Nobody too"]


def test_devices_in_no_group_are_listed_by_a_rule() -> None:
    a, b, _ = make_devices(3)
    make_static("First", [a])
    make_static("Second one", [b])

    answer = client_as("viewer").get("/api/v1/groups/overview").json()

    assert answer["in_no_group"] == 1
    found = client_as("viewer").get("/api/v1/devices", {"rule": answer["in_no_group_rule"]}).json()
    assert found["count"] == 1


def test_a_tag_that_one_device_has_is_told_with_the_device() -> None:
    make_device(name="a", tags=["frost-zone", "lab"])
    make_device(name="b", tags=["frost_zone", "lab"])

    told = groups_overview(now=NOW)

    assert [(t.tag, t.device) for t in told.tags_once] == [("frost-zone", "a"), ("frost_zone", "b")]
