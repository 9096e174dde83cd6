"""Members picked by hand: families that exclude each other, turning static and back."""

import pytest

from herald.fleet.models import Device
from herald.groups.members import change_members, convert_to_rule, convert_to_static
from herald.groups.membership import process_changed_devices
from herald.groups.models import Family, Group
from herald.http.errors import Conflict, InvalidRule
from herald.record.models import RecordEntry
from tests.factories import NOW, make_device, make_devices, make_rule_group
from tests.factories import make_static as make_group

pytestmark = pytest.mark.django_db


def names(group: Group) -> set[str]:
    return set(group.memberships.values_list("device__name", flat=True))


def family_of(*groups: Group) -> None:
    family = Family.objects.create(name="Pace")
    Group.objects.filter(pk__in=[g.pk for g in groups]).update(family=family)
    for group in groups:
        group.refresh_from_db()


def test_a_device_moves_within_a_family_only_when_that_is_confirmed() -> None:
    a, b, c = (make_device(name=n) for n in "abc")
    slow, fast = make_group("Slow", [a, b]), make_group("Fast", [c])
    family_of(slow, fast)
    follower = make_rule_group("Not slow", 'not group = "Slow"')

    with pytest.raises(Conflict, match="1 from “Slow”") as caught:
        change_members(fast, add=[a.pk], remove=[], actor=None, now=NOW)
    assert caught.value.extra["moves"] == [{"id": slow.pk, "name": "Slow", "devices": 1}]
    assert names(slow) == {"a", "b"}

    change_members(fast, add=[a.pk], remove=[], actor=None, now=NOW, move=True)

    assert (names(slow), names(fast), names(follower)) == ({"b"}, {"a", "c"}, {"a", "c"})
    assert "1 moved from “Slow”" in RecordEntry.objects.latest("id").sentence


def test_a_group_turned_static_keeps_its_members_and_its_rule_as_history() -> None:
    device = make_device(name="in", tags=["lab"])
    group = make_rule_group("Lab", "tag = lab")

    convert_to_static(group, actor=None, now=NOW)
    Device.objects.filter(pk=device.pk).update(tags=[])
    process_changed_devices(now=NOW)

    group.refresh_from_db()
    assert (group.kind, group.rule, group.previous_rule, names(group)) == ("static", "", "tag = lab", {"in"})
    with pytest.raises(Conflict):
        convert_to_static(group, actor=None, now=NOW)
    change_members(group, add=[], remove=[device.pk], actor=None, now=NOW)
    assert names(group) == set()


def test_a_group_by_hand_becomes_a_rule_and_follows_it() -> None:
    first, second = make_devices(2, tags=["lab"])
    group = make_group("G", [first])

    with pytest.raises(InvalidRule):
        convert_to_rule(group, "tag lab", actor=None, now=NOW)
    difference = convert_to_rule(group, "tag = lab", actor=None, now=NOW)

    assert (difference.joined, difference.left) == (1, 0)
    assert names(group) == {first.name, second.name}
    with pytest.raises(Conflict):
        convert_to_rule(group, "everything", actor=None, now=NOW)


def test_a_group_of_a_family_stays_by_hand_and_cannot_refer_to_itself() -> None:
    group = make_group("G", make_devices(1))
    with pytest.raises(InvalidRule, match="circle"):
        convert_to_rule(group, 'group = "G"', actor=None, now=NOW)
    family_of(group)
    with pytest.raises(Conflict, match="family"):
        convert_to_rule(group, "everything", actor=None, now=NOW)
