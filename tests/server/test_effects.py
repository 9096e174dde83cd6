"""What a preview says of groups is what happens: for any edit, on any fleet."""

from typing import Any

import pytest
from django.db import transaction
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from herald.catalog.tags import preview_renaming, rename_tag
from herald.edits.change import RequestedEdit
from herald.edits.services import Target, preview_edit, request_edit, request_undo
from herald.fleet.models import Custodian, Device, PropertyDefinition
from herald.groups.membership import process_changed_devices
from herald.groups.models import Group, GroupMembership
from tests.factories import NOW, make_device, make_rule_group, make_site

pytestmark = pytest.mark.django_db
TAGS = ["a", "b", "c"]
RULES = {
    "Tagged": "tag any of (a, b)",
    "Hill": "site = Hill and not tag = c",
    "Crop": "crop = olive or custodian_tag = on-call",
    "Out": 'admission != admitted or not group = "Tagged"',
    "Both": 'group = "Hill" and group = "Crop"',
    "Zone": "time_zone starts with asia",
}
edits = st.fixed_dictionaries(
    {},
    optional={
        "add_tags": st.lists(st.sampled_from(TAGS), min_size=1, max_size=2),
        "remove_tags": st.lists(st.sampled_from(TAGS), min_size=1, max_size=2),
        "site": st.sampled_from(["Hill", "Bay", ""]),
        "custodian": st.sampled_from(["north", "south", ""]),
        "set_attributes": st.fixed_dictionaries({"crop": st.sampled_from(["olive", "vine"])}),
        "admission": st.sampled_from(["admitted", "retired"]),
    },
).filter(bool)
fleets = st.lists(
    st.fixed_dictionaries(
        {
            "tags": st.lists(st.sampled_from(TAGS), unique=True),
            "attributes": st.sampled_from([{}, {"crop": "olive"}, {"crop": "vine"}]),
            "place": st.sampled_from(["Hill", "Bay"]),
            "who": st.sampled_from([None, "north"]),
        }
    ),
    min_size=1,
    max_size=6,
)


def _reference_data(fleet: list[dict[str, Any]]) -> None:
    PropertyDefinition.objects.create(key="crop", source="attribute", label="Crop", type="text")
    make_site("Hill", "Asia/Kolkata"), make_site("Bay", "UTC")
    people = {
        name: Custodian.objects.create(name=name, email="x@example.com", tags=tags)
        for name, tags in (("north", ["on-call"]), ("south", []))
    }
    for device in fleet:
        place, who = device.pop("place"), device.pop("who")
        make_device(**device, site=make_site(place), custodian=people.get(who))
    for name, rule in RULES.items():
        make_rule_group(name, rule)


def _members() -> dict[str, set[int]]:
    found: dict[str, set[int]] = {name: set() for name in Group.objects.values_list("name", flat=True)}
    for name, pk in GroupMembership.objects.values_list("group__name", "device_id"):
        found[name].add(pk)
    return found


def _differences(before: dict[str, set[int]], after: dict[str, set[int]]) -> set[tuple[str, int, int]]:
    pairs = {(n, len(after[n] - before[n]), len(before[n] - after[n])) for n in before}
    return {p for p in pairs if p[1] or p[2]}


@settings(max_examples=15, deadline=None, suppress_health_check=list(HealthCheck))
@given(fleet=fleets, asked=edits)
def test_an_edit_does_to_groups_what_its_preview_said(fleet: list[dict[str, Any]], asked: dict[str, Any]) -> None:
    with transaction.atomic():
        _reference_data([dict(d) for d in fleet])
        before, states = _members(), list(Device.objects.order_by("id").values("tags", "attributes", "site_id"))
        told = preview_edit(RequestedEdit(**asked), Target(rule="everything"), now=NOW)
        assert before == _members()
        if told.changing:
            done = request_edit(RequestedEdit(**asked), Target(rule="everything"), actor=None, now=NOW)
            process_changed_devices(now=NOW)
            assert {(e.group.name, e.joins, e.leaves) for e in told.groups} == _differences(before, _members())
            assert done.device_count == told.changing
            request_undo(done, actor=None, now=NOW)
            process_changed_devices(now=NOW)
            assert before == _members()
            assert states == list(Device.objects.order_by("id").values("tags", "attributes", "site_id"))
        transaction.set_rollback(True)


@settings(max_examples=10, deadline=None, suppress_health_check=list(HealthCheck))
@given(fleet=fleets, names=st.permutations([*TAGS, "new"]))
def test_a_tag_merge_does_to_groups_what_its_preview_said(fleet: list[dict[str, Any]], names: list[str]) -> None:
    old, new = names[:2]
    with transaction.atomic():
        _reference_data([dict(d) for d in fleet])
        if Device.objects.filter(tags__overlap=[old]).exists():
            before = _members()
            told = preview_renaming(old, new, now=NOW)
            rename_tag(old, new, actor=None, now=NOW)
            process_changed_devices(now=NOW)
            assert {(e.group.name, e.joins, e.leaves) for e in told.groups} == _differences(before, _members())
            assert not Device.objects.filter(tags__overlap=[old]).exists()
        transaction.set_rollback(True)


def test_a_zone_of_its_own_stays_though_it_was_the_zone_of_the_site() -> None:
    utc, hill = make_site("Here", "UTC"), make_site("Hill", "Asia/Kolkata")
    follows = make_device(site=utc)
    own = make_device(site=utc, own_time_zone="UTC", time_zone="UTC")
    group = make_rule_group("Indian time", 'time_zone = "Asia/Kolkata"')
    both = Target(devices=[follows.name, own.name])

    told = preview_edit(RequestedEdit(site=hill.name), both, now=NOW)
    assert [(e.group.name, e.joins, e.leaves) for e in told.groups] == [("Indian time", 1, 0)]

    request_edit(RequestedEdit(site=hill.name), both, actor=None, now=NOW)
    process_changed_devices(now=NOW)
    assert list(group.memberships.values_list("device__name", flat=True)) == [follows.name]
    own.refresh_from_db()
    assert (own.site, own.time_zone) == (hill, "UTC")
