"""Groups: membership that follows, references, refusals."""

from datetime import timedelta

import pytest
from django.db import IntegrityError, connection, transaction

from herald.fleet.models import Device, MembershipQueueEntry
from herald.groups.members import change_members
from herald.groups.membership import process_changed_devices, reevaluate, refresh_time_groups
from herald.groups.models import Group, GroupMembership, MembershipEvent
from herald.groups.services import (
    change_group,
    create_group,
    delete_group,
    explain_rule,
    preview_rule,
    references_to,
)
from herald.http.errors import Conflict, Invalid, InvalidRule
from tests.factories import NOW, make_device, make_devices, make_draft, make_rule_group, make_static

pytestmark = pytest.mark.django_db


def names_in(group: Group) -> set[str]:
    return set(group.memberships.values_list("device__name", flat=True))


def test_a_new_rule_group_has_its_members_and_their_events() -> None:
    make_device(name="in", tags=["lab"])
    make_device(name="out")
    group = make_rule_group("Lab", "tag = lab")
    assert names_in(group) == {"in"}
    event = MembershipEvent.objects.get(group=group)
    assert (event.joined, event.cause) == (True, "the group was made")


def test_membership_follows_a_changed_device() -> None:
    device = make_device(name="d", facts={})
    group = make_rule_group("Lab", "tag = lab")
    device.tags = ["lab"]
    device.save()
    MembershipQueueEntry.objects.note([device.pk], NOW)
    assert process_changed_devices(now=NOW) == 1
    assert names_in(group) == {"d"}
    assert process_changed_devices(now=NOW) == 0
    Device.objects.update(tags=[])
    MembershipQueueEntry.objects.note([device.pk, device.pk], NOW)
    assert process_changed_devices(now=NOW) == 1
    assert names_in(group) == set()
    assert MembershipEvent.objects.filter(group=group).count() == 2


def test_a_change_runs_through_groups_that_refer_to_others() -> None:
    device = make_device(name="d")
    make_rule_group("A", "tag = lab")
    make_rule_group("B", 'not group = "A" and model = "Sill 400"')
    c = make_rule_group("C", "group = B")
    assert names_in(c) == {"d"}
    Device.objects.update(tags=["lab"])
    MembershipQueueEntry.objects.note([device.pk], NOW)
    process_changed_devices(now=NOW)
    assert names_in(c) == set()
    change_group(Group.objects.get(name="A"), rule="tag = spare", actor=None, now=NOW)
    assert names_in(c) == {"d"}


def test_static_members_reach_referring_groups() -> None:
    device = make_device(name="d")
    static = make_static("Picked", [])
    rule = make_rule_group("Not picked", "not group = Picked")
    assert names_in(rule) == {"d"}
    difference = change_members(static, add=[device.pk], remove=[], actor=None, now=NOW)
    assert (difference.joined, difference.left) == (1, 0)
    assert names_in(rule) == set()


def test_cycles_are_refused_and_spelled_out() -> None:
    make_rule_group("A", "tag = lab")
    make_rule_group("B", "group = A")
    c = make_rule_group("C", "group = B")
    with pytest.raises(InvalidRule, match="in a circle: A → C → B → A"):
        change_group(Group.objects.get(name="A"), rule="group = C", actor=None, now=NOW)
    with pytest.raises(InvalidRule, match="in a circle: C → C"):
        change_group(c, rule="group = C", actor=None, now=NOW)
    assert Group.objects.get(name="A").rule == "tag = lab"


def test_an_unknown_group_is_refused_with_the_closest() -> None:
    make_rule_group("Field gateways", "everything")
    with pytest.raises(InvalidRule) as caught:
        create_group(name="X", kind="rule", rule='group = "Field gatways"', actor=None, now=NOW)
    assert caught.value.extra["errors"][0]["closest"] == "Field gateways"
    assert not Group.objects.filter(name="X").exists()


def test_a_new_name_is_written_into_rules_that_use_it() -> None:
    make_rule_group("Old", "everything")
    other = make_rule_group("Other", "group = Old")
    change_group(Group.objects.get(name="Old"), name="New name", actor=None, now=NOW)
    other.refresh_from_db()
    assert other.rule == 'group = "New name"'


def test_time_groups_change_as_time_passes() -> None:
    make_device(name="d", check_in_interval_seconds=900, last_check_in=NOW)
    group = make_rule_group("Late", "presence = late")
    assert group.is_time_dependent
    assert names_in(group) == set()
    refresh_time_groups(now=NOW + timedelta(hours=1))
    assert names_in(group) == {"d"}
    refresh_time_groups(now=NOW + timedelta(days=2))
    assert names_in(group) == set()


def test_preview_compares_with_the_saved_members() -> None:
    make_device(name="a", tags=["x"])
    make_device(name="b", tags=["y"])
    group = make_rule_group("G", "tag = x")
    preview = preview_rule("tag = y", limit=10, now=NOW, group=group)
    assert (preview.count, preview.joins, preview.leaves, preview.fleet) == (1, 1, 1, 2)
    assert [d.name for d in preview.joining] == ["b"]
    assert [d.name for d in preview.leaving] == ["a"]
    assert names_in(group) == {"a"}  # nothing was saved


def test_explain_knows_the_devices_groups() -> None:
    device = make_device(tags=["frost_zone"])
    make_static("Bench", [device])
    member, lines = explain_rule("tag = frost-zone and not group = Bench", device, now=NOW)
    assert not member
    assert "1 letter differs" in lines[0].why
    assert lines[1].value == "Bench"


def test_a_group_in_use_is_not_deleted() -> None:
    device = make_device()
    group = make_static("Used", [device])
    rollout = make_draft(group)
    make_rule_group("Refers", "group = Used")
    assert {u.kind for u in references_to(group)} == {"rollout", "group"}
    with pytest.raises(Conflict, match=f"Rollout {rollout.pk}"):
        delete_group(group, actor=None, now=NOW)
    free = make_static("Free", [device])
    delete_group(free, actor=None, now=NOW)
    assert not Group.objects.filter(name="Free").exists()
    assert Device.objects.count() == 1


@pytest.mark.parametrize("name", ["", "  ", "x" * 81, 'a"b', "Taken"])
def test_bad_names_are_refused(name: str) -> None:
    make_static("Taken", [])
    with pytest.raises(Invalid) as caught:
        create_group(name=name, kind="static", actor=None, now=NOW)
    assert caught.value.extra["errors"][0]["pointer"] == "/name"


def test_members_of_a_rule_group_cannot_be_picked() -> None:
    group = make_rule_group("R", "tag = lab")
    with pytest.raises(Invalid, match="follow from its rule"):
        change_members(group, add=[make_device().pk], remove=[], actor=None, now=NOW)
    assert GroupMembership.objects.count() == 0


def test_the_size_of_a_group_is_kept_true_by_the_database() -> None:
    def shown() -> dict[str, int]:
        return {g.name: g.member_count for g in Group.objects.with_counts()}

    devices = make_devices(4, tags=["lab"])
    group, other = make_rule_group("Lab", "tag = lab"), make_static("Two", devices[:2])
    make_rule_group("Nobody", "tag = none")
    assert shown() == {"Lab": 4, "Nobody": 0, "Two": 2}
    Device.objects.filter(pk=devices[0].pk).update(tags=[])
    reevaluate([devices[0].pk], now=NOW, cause="it changed")
    devices[1].delete()
    assert shown() == {"Lab": 2, "Nobody": 0, "Two": 1}
    assert {g.name: g.memberships.count() for g in (group, other)} == {"Lab": 2, "Two": 1}
    delete_group(other, actor=None, now=NOW)
    assert shown() == {"Lab": 2, "Nobody": 0}


def test_the_database_holds_that_members_are_in_a_group_that_exists() -> None:
    device = make_device()
    group = make_static("G", [device])
    with pytest.raises(IntegrityError), transaction.atomic():
        GroupMembership.objects.create(group_id=999_999, device=device, since=NOW, cause="")
        connection.check_constraints()
    with pytest.raises(IntegrityError, match="still has members"), transaction.atomic():
        Group.objects.filter(pk=group.pk)._raw_delete("default")
