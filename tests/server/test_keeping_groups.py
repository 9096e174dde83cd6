"""What groups are kept to and where they are: families, one model, folders; and that nothing widens in silence."""

from datetime import time
from typing import Any

import pytest
from django.db import transaction
from hypothesis import given, settings
from hypothesis import strategies as st
from rest_framework.test import APIClient

from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import When
from herald.groups.consequences.acceptance import Agreement, NotAgreed
from herald.groups.folders import change_folder, delete_folder, list_folders, make_folder
from herald.groups.members import change_members, convert_to_rule
from herald.groups.models import Family, Folder, Group
from herald.groups.rule_suggestions import propose_rule
from herald.groups.services import change_group, create_group, delete_group
from herald.http.errors import Conflict, Invalid
from tests.factories import NOW, make_device, make_devices, make_model, make_rule_group, make_static, make_user, restart

pytestmark = pytest.mark.django_db
BY: dict[str, Any] = {"actor": None, "now": NOW}


def schedule_for(group: Group) -> None:
    create_schedule(
        ScheduleDraft(
            template=restart(),
            include=[group],
            exclude=[],
            when=When.REPEAT,
            rule="FREQ=DAILY",
            time_of_day=time(2),
            spread_minutes=0,
            expires_after_minutes=60,
        ),
        **BY,
    )


def test_a_rule_that_something_runs_by_changes_only_by_the_numbers_that_were_accepted() -> None:
    make_devices(3, tags=["lab"])
    make_devices(2, tags=["spare"])
    inner = make_rule_group("Inner", "tag = lab")
    outer = make_rule_group("Outer", 'group = "Inner"')
    schedule_for(outer)

    rule = "tag any of (lab, spare)"
    with pytest.raises(NotAgreed) as refused:
        change_group(inner, rule=rule, agreement=Agreement(), **BY)
    assert [(u["kind"], u["joins"], u["leaves"]) for u in refused.value.extra["uses"]] == [("schedule", 2, 0)]
    inner.refresh_from_db()
    assert (inner.rule, inner.memberships.count(), outer.memberships.count()) == ("tag = lab", 3, 3)
    digest = refused.value.extra["digest"]
    with pytest.raises(NotAgreed):
        change_group(inner, rule=rule, agreement=Agreement(digest=digest.replace("+2", "+1")), **BY)
    change_group(inner, rule=rule, agreement=Agreement(digest=digest), **BY)
    assert outer.memberships.count() == 5
    with pytest.raises(NotAgreed) as emptied:
        change_group(inner, rule="tag = nobody", agreement=Agreement(digest=digest), **BY)
    assert emptied.value.extra["uses"][0]["leaves"] == 5


def test_a_rule_that_nothing_follows_needs_nobody_to_agree() -> None:
    make_devices(2)
    group = make_rule_group("G", "tag = lab")
    assert change_group(group, rule="everything", **BY).joined == 2


def test_the_api_refuses_to_widen_and_says_the_numbers() -> None:
    make_devices(2)
    group = make_rule_group("G", "tag = lab")
    schedule_for(group)
    client = APIClient()
    client.force_authenticate(make_user())
    url = f"/api/v1/groups/{group.pk}"
    refused = client.patch(url, {"rule": "everything"}, format="json")
    assert (refused.status_code, refused.data["uses"][0]["joins"]) == (409, 2)
    assert [u["kind"] for u in client.get(url).data["following"]] == ["schedule"]
    saved = client.patch(url, {"rule": "everything"}, format="json", HTTP_HERALD_AGREED=refused.data["digest"])
    assert (saved.status_code, saved.data["member_count"]) == (200, 2)


def test_a_family_is_made_by_naming_it_and_its_groups_share_no_devices() -> None:
    a, b = make_devices(2)
    slow, fast = make_static("Slow", [a]), make_static("Fast", [a, b])
    change_group(slow, family="Pace", **BY)
    with pytest.raises(Conflict, match="1 in “Slow”"):
        change_group(fast, family="Pace", **BY)
    change_members(fast, add=[], remove=[a.pk], **BY)
    change_group(fast, family="Pace", **BY)
    with pytest.raises(Invalid, match="picked by hand"):
        change_group(make_rule_group("R", "tag = x"), family="Pace", **BY)

    change_group(slow, family=None, **BY)
    change_group(fast, family="", **BY)
    assert not Family.objects.exists()


def test_a_group_kept_to_one_model_takes_no_other() -> None:
    sill, rill = make_device(), make_device(model=make_model("Rill V2", "Rill"), name="rill-1")
    group = create_group(name="Sills", kind="static", only_model=sill.model, device_ids=[sill.pk], **BY)

    with pytest.raises(Conflict, match=r"1 of these are of other models: rill-1\."):
        change_members(group, add=[rill.pk], remove=[], **BY)
    mixed = make_static("Mixed", [sill, rill])
    with pytest.raises(Conflict, match="rill-1"):
        change_group(mixed, only_model=sill.model, **BY)
    with pytest.raises(Invalid, match='needs the line model = "Sill 400"'):
        convert_to_rule(group, "everything", **BY)
    convert_to_rule(group, 'tag = lab and model = "Sill 400"', **BY)
    with pytest.raises(Invalid, match="needs the line"):
        change_group(group, rule='tag = lab or model = "Sill 400"', **BY)


def test_a_group_stands_ready_before_its_devices() -> None:
    group = create_group(name="Ready", kind="static", **BY)
    assert group.memberships.count() == 0


def test_folders_are_a_tree_that_counts_each_device_once() -> None:
    a, b, c = make_devices(3)
    top = make_folder("Field", None, **BY)
    below = make_folder("North", top, **BY)
    for name, folder, members in (("One", top, [a, b]), ("Two", below, [b]), ("Three", below, [b, c])):
        change_group(make_static(name, members), folder=folder, **BY)

    counts = {f.name: (f.parent, f.device_count) for f in list_folders()}
    assert counts == {"Field": (None, 3), "North": (top.pk, 2)}

    with pytest.raises(Invalid, match="inside itself"):
        change_folder(top, parent=below, **BY)
    with pytest.raises(Invalid, match="already"):
        make_folder("Field", None, **BY)
    with pytest.raises(Conflict, match="2 groups in it"):
        delete_folder(below, **BY)
    change_folder(below, parent=None, name="South", **BY)
    assert Folder.objects.get(name="South").parent is None
    for name in ("Two", "Three"):
        delete_group(Group.objects.get(name=name), **BY)
    delete_folder(Folder.objects.get(name="South"), **BY)


def test_folders_and_places_through_the_api() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    group = make_rule_group("G", "everything")
    made = client.post("/api/v1/folders", {"name": "Field"}, format="json")
    assert (made.status_code, made.data["device_count"]) == (201, 0)
    inside = client.post("/api/v1/folders", {"name": "North", "parent": made.data["id"]}, format="json").data["id"]
    moved = client.patch(f"/api/v1/groups/{group.pk}", {"folder_id": inside}, format="json")
    assert moved.data["folder"] == "North"
    kept = client.patch(f"/api/v1/folders/{inside}", {"name": "South"}, format="json").data
    assert (kept["name"], kept["parent"]) == ("South", made.data["id"])
    assert client.delete(f"/api/v1/folders/{inside}").status_code == 409
    client.patch(f"/api/v1/groups/{group.pk}", {"folder_id": None}, format="json")
    assert client.delete(f"/api/v1/folders/{inside}").status_code == 204


def test_a_rule_is_proposed_with_what_differs_by_the_database() -> None:
    lab = make_devices(3, tags=["lab"])
    odd = make_device(tags=["lab", "frost-zone"])
    make_devices(4, tags=["frost-zone"])
    exact = propose_rule(make_static("Lab", [*lab, odd]), limit=10, now=NOW)
    assert (exact.rule, exact.joins, exact.leaves) == ("tag = lab", 0, 0)
    part = propose_rule(make_static("Two of three", lab[:2]), limit=10, now=NOW)
    assert [d.name for d in part.joining] == [lab[2].name]
    assert (part.joins, part.leaves) == (1, 0)


def test_no_rule_is_proposed_for_nobody() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    refused = client.get(f"/api/v1/groups/{make_static('Empty', []).pk}/proposed-rule")
    assert refused.status_code == 422
    assert "nothing to find" in refused.data["detail"]


@settings(max_examples=15)
@given(st.lists(st.tuples(st.sampled_from(["A", "B"]), st.booleans(), st.booleans()), min_size=2, max_size=12))
def test_what_a_proposal_says_joins_and_leaves_is_what_saving_it_does(
    devices: list[tuple[str, bool, bool]],
) -> None:
    with transaction.atomic():
        made = [
            make_device(hardware_revision=revision, tags=["lab"] if tagged else []) for revision, tagged, _ in devices
        ]
        wanted = [d for d, (_, _, inside) in zip(made, devices, strict=True) if inside] or made[:1]
        group = make_static("Picked", wanted)
        proposal = propose_rule(group, limit=20, now=NOW)
        assert proposal.joins + proposal.leaves <= len(made) - len(wanted)  # everybody would be as near

        done = convert_to_rule(group, proposal.rule, **BY)

        assert (done.joined, done.left) == (proposal.joins, proposal.leaves)
        assert group.memberships.count() == len(wanted) + proposal.joins - proposal.leaves
        transaction.set_rollback(True)


def test_a_family_keeps_its_groups_apart_when_one_is_made_with_devices() -> None:
    a, b = make_devices(2)
    create_group(name="Slow", kind="static", family="Pace", device_ids=[a.pk], **BY)
    with pytest.raises(Conflict, match="1 in “Slow”"):
        create_group(name="Fast", kind="static", family="Pace", device_ids=[a.pk, b.pk], **BY)
    assert not Group.objects.filter(name="Fast").exists()
    create_group(name="Fast", kind="static", family="Pace", device_ids=[b.pk], **BY)
    assert set(Family.objects.get().groups.values_list("name", flat=True)) == {"Slow", "Fast"}
