"""Nothing moves unseen: every door through which membership changes asks for the numbers, and the list is whole."""

import json
import re
from collections.abc import Callable
from datetime import time
from pathlib import Path
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import call_command
from rest_framework.test import APIClient

from herald.calendar.services import FreezeDraft, save_freeze
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import Schedule, When
from herald.fleet.models import CapabilityRange, Custodian, Device, MembershipQueueEntry, PropertyDefinition
from herald.groups.consequences.acceptance import Consequences, UseEffect, _covers
from herald.groups.membership import process_changed_devices
from herald.groups.models import Group, GroupMembership, MembershipEvent
from herald.groups.references import Reference
from herald.http.agreement import CONSEQUENCES
from herald.http.membership import FREE_CALLS, GATED_CALLS, mark_of
from herald.http.outbound import Fetched
from herald.imports import services as imports
from herald.lists import services as lists
from herald_core.versions import version_key
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_model,
    make_rule_group,
    make_site,
    make_static,
    restart,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
ROOT = Path(__file__).parents[2]
Ask = Callable[..., Any]


def followed(group: Group) -> Schedule:
    """A running schedule that reaches whoever is in the group."""
    draft = ScheduleDraft(template=restart(), include=[group], when=When.REPEAT, rule="FREQ=DAILY", time_of_day=time(5))
    return create_schedule(draft, actor=None, now=NOW)


#: a list elsewhere, and what stands in it
LIST, LISTED = "https://lists.larkfield.example/pumps.txt", list[str]()


@pytest.fixture(autouse=True)
def _elsewhere(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(lists, "fetch", lambda url, **_: Fetched("\n".join(LISTED).encode(), url))


# -- every door


def door_groups_change(client: APIClient) -> tuple[Group, Ask]:
    make_device(tags=["lab"])
    group = make_rule_group("G", "tag = other")
    return group, lambda **h: client.patch(f"/api/v1/groups/{group.pk}", {"rule": "tag = lab"}, format="json", **h)


def door_configuration_apply(client: APIClient) -> tuple[Group, Ask]:
    make_device(tags=["lab"])
    group = make_rule_group("G", "tag = other")
    body: dict[str, Any] = {"kinds": {"groups": [{"name": "G", "rule": "tag = lab"}]}}
    body["digest"] = client.post("/api/v1/configuration/compare", body, format="json").json()["digest"]
    return group, lambda **h: client.post("/api/v1/configuration/apply", body, format="json", **h)


def door_groups_change_members(client: APIClient) -> tuple[Group, Ask]:
    group, device = make_static("G", []), make_device()
    body = {"add": [device.name], "remove": []}
    return group, lambda **h: client.post(f"/api/v1/groups/{group.pk}/members", body, format="json", **h)


def door_groups_convert_to_rule(client: APIClient) -> tuple[Group, Ask]:
    make_device(tags=["lab"])
    group = make_static("G", [])
    return group, lambda **h: client.post(
        f"/api/v1/groups/{group.pk}/convert-to-rule", {"rule": "tag = lab"}, format="json", **h
    )


def door_groups_list_follow(client: APIClient) -> tuple[Group, Ask]:
    group = make_static("G", [])
    LISTED[:] = [make_device().name]
    return group, lambda **h: client.put(f"/api/v1/groups/{group.pk}/list", {"url": LIST}, format="json", **h)


def door_groups_list_read(client: APIClient) -> tuple[Group, Ask]:
    group = make_static("G", [])
    LISTED.clear()
    assert client.put(f"/api/v1/groups/{group.pk}/list", {"url": LIST}, format="json").status_code == 200
    LISTED[:] = [make_device().name]
    return group, lambda **h: client.post(f"/api/v1/groups/{group.pk}/list/read", {}, format="json", **h)


def door_edits_create(client: APIClient) -> tuple[Group, Ask]:
    group, device = make_rule_group("G", "tag = lab"), make_device()
    body = {"target": {"devices": [device.name]}, "add_tags": ["lab"]}
    return group, lambda **h: client.post("/api/v1/edits", body, format="json", **h)


def door_edits_undo(client: APIClient) -> tuple[Group, Ask]:
    group, device = make_rule_group("G", "tag = lab"), make_device(tags=["lab"])
    edit = {"target": {"devices": [device.name]}, "remove_tags": ["lab"]}
    made = client.post("/api/v1/edits", edit, format="json").json()
    process_changed_devices(now=NOW)
    return group, lambda **h: client.post(f"/api/v1/edits/{made['id']}/undo", **h)


def door_tags_rename(client: APIClient) -> tuple[Group, Ask]:
    group = make_rule_group("G", "tag = lab")
    make_device(tags=["lba"])
    return group, lambda **h: client.post("/api/v1/tags/lba/rename", {"to": "lab"}, format="json", **h)


def door_tags_delete(client: APIClient) -> tuple[Group, Ask]:
    group = make_rule_group("G", "tag is missing")
    make_device(tags=["lab"])
    return group, lambda **h: client.delete("/api/v1/tags/lab", **h)


def door_attributes_change(client: APIClient) -> tuple[Group, Ask]:
    PropertyDefinition.objects.create(key="depth", source="attribute", label="Depth", type="text")
    group = make_rule_group("G", "depth > 5")  # as texts, "12" comes before "5"
    make_device(attributes={"depth": "12"})
    return group, lambda **h: client.patch("/api/v1/attributes/depth", {"type": "number"}, format="json", **h)


def door_facts_change(client: APIClient) -> tuple[Group, Ask]:
    PropertyDefinition.objects.create(key="depth", source="fact", label="Depth", type="text")
    group = make_rule_group("G", "depth is missing")
    make_device(facts={"depth": "shallow"})
    return group, lambda **h: client.patch("/api/v1/facts/depth", {"type": "number"}, format="json", **h)


def door_sites_change(client: APIClient) -> tuple[Group, Ask]:
    group, site = make_rule_group("G", "region = north"), make_site("There")
    make_device(site=site)
    return group, lambda **h: client.patch(f"/api/v1/sites/{site.pk}", {"region": "north"}, format="json", **h)


def door_models_change(client: APIClient) -> tuple[Group, Ask]:
    group, model = make_rule_group("G", "family = Odd"), make_model("Even 1", "Even")
    make_device(model=model)
    return group, lambda **h: client.patch(f"/api/v1/models/{model.pk}", {"family": "Odd"}, format="json", **h)


def door_custodians_change(client: APIClient) -> tuple[Group, Ask]:
    group = make_rule_group("G", "custodian_tag = night")
    custodian = Custodian.objects.create(name="C", email="c@example.com")
    make_device(custodian=custodian)
    return group, lambda **h: client.patch(
        f"/api/v1/custodians/{custodian.pk}", {"tags": ["night"]}, format="json", **h
    )


def door_imports_accept(client: APIClient) -> tuple[Group, Ask]:
    group = make_rule_group("G", "tag = lab")
    make_model()
    file = SimpleUploadedFile("d.csv", b"uid,model,tag\nNEW,Sill 400,lab\n")
    made = client.post("/api/v1/imports", {"file": file}, format="multipart").json()
    imports.check(made["id"], now=NOW)
    return group, lambda **h: client.post(
        f"/api/v1/imports/{made['id']}/accept", {"all_or_nothing": True}, format="json", **h
    )


def door_imports_undo(client: APIClient) -> tuple[Group, Ask]:
    group, device = make_rule_group("G", "tag = lab"), make_device(tags=["lab"])
    file = SimpleUploadedFile("d.csv", f"uid,tag\n{device.uid},other\n".encode())
    made = client.post("/api/v1/imports", {"file": file}, format="multipart").json()
    imports.check(made["id"], now=NOW)
    client.post(f"/api/v1/imports/{made['id']}/accept", {"all_or_nothing": True}, format="json")
    settle()
    return group, lambda **h: client.post(f"/api/v1/imports/{made['id']}/undo", **h)


def door_devices_add(client: APIClient) -> tuple[Group, Ask]:
    group, model = make_rule_group("G", "tag = lab"), make_model()
    body = {"uid": "NEW", "model": model.name, "tags": ["lab"]}
    return group, lambda **h: client.post("/api/v1/devices/add", body, format="json", **h)


def door_devices_replace(client: APIClient) -> tuple[Group, Ask]:
    group, old, new = make_rule_group("G", "uid = NEW and tag = lab"), make_device(tags=["lab"]), make_device(uid="NEW")
    return group, lambda **h: client.post(f"/api/v1/devices/{old.name}/replace", {"by": new.name}, format="json", **h)


DOORS = {name.removeprefix("door_"): door for name, door in globals().items() if name.startswith("door_")}


def settle() -> None:
    """What the clock does soon after: membership follows, and accepted files are written."""
    from herald.imports.models import Import

    for found in Import.objects.filter(state="applying"):
        imports.write(found.pk, now=NOW)
    process_changed_devices(now=NOW)


@pytest.mark.parametrize("call", sorted(DOORS))
def test_no_door_moves_a_device_into_what_runs_unless_the_numbers_were_agreed_to(client: APIClient, call: str) -> None:
    group, ask = DOORS[call](client)
    schedule = followed(group)
    before = MembershipEvent.objects.count()
    refused = ask()
    assert refused.status_code == 409, refused.content
    body = refused.json()
    assert body["type"].endswith(":consequences-not-agreed")
    assert [(u["kind"], u["id"], u["joins"]) for u in body["uses"]] == [("schedule", schedule.pk, 1)]
    assert [(g["id"], g["joins"]) for g in body["groups"]] == [(group.pk, 1)]
    settle()
    assert MembershipEvent.objects.count() == before
    dry = ask(HTTP_HERALD_DRY_RUN="true")
    assert (dry.status_code, dry.json()["digest"]) == (200, body["digest"])
    assert dry["Content-Type"] == CONSEQUENCES
    settle()
    assert MembershipEvent.objects.count() == before and not MembershipQueueEntry.objects.exists()
    wrong = ask(HTTP_HERALD_AGREED=f"schedule:{schedule.pk + 1}+1-0")
    assert wrong.status_code == 409
    agreed = ask(HTTP_HERALD_AGREED=body["digest"])
    assert agreed.status_code < 300, agreed.content
    settle()
    assert GroupMembership.objects.filter(group=group).count() == 1


@pytest.mark.parametrize("call", sorted(DOORS))
def test_where_nothing_follows_the_group_nobody_is_asked(client: APIClient, call: str) -> None:
    group, ask = DOORS[call](client)
    assert ask().status_code < 300
    settle()
    assert GroupMembership.objects.filter(group=group).count() == 1


def test_a_group_that_becomes_static_keeps_its_members(client: APIClient) -> None:
    make_device(tags=["lab"])
    group = make_rule_group("G", "tag = lab")
    followed(group)
    assert client.post(f"/api/v1/groups/{group.pk}/convert-to-static").status_code == 200
    assert group.memberships.count() == 1


@pytest.mark.parametrize(
    ("before", "after", "numbers"),
    [({"never": True}, {"from_version": "5.0.0"}, "+2-0"), ({}, {"never": True}, "+0-2")],
)
def test_what_a_model_can_do_changes_by_the_numbers_of_the_commands_that_reach_it(
    client: APIClient, before: dict[str, Any], after: dict[str, Any], numbers: str
) -> None:
    devices = make_devices(2, firmware="5.1.0", firmware_key=version_key("5.1.0"))
    schedule = followed(make_static("G", devices))
    path = f"/api/v1/models/{devices[0].model_id}/capabilities"

    def ask(limit: dict[str, Any], **headers: Any) -> Any:
        ranges = [{"capability": "restart", **limit}] if limit else []
        return client.put(path, {"ranges": ranges}, format="json", **headers)

    # nothing is limited at first; that nobody can is agreed to, to begin with
    if before:
        assert ask(before, HTTP_HERALD_AGREED=f"schedule:{schedule.pk}+0-2").status_code == 200
    kept = list(CapabilityRange.objects.values_list("never", "from_version"))
    refused = ask(after)
    assert refused.status_code == 409, refused.content
    assert refused.json()["digest"] == f"schedule:{schedule.pk}{numbers}"
    assert list(CapabilityRange.objects.values_list("never", "from_version")) == kept
    dry = ask(after, HTTP_HERALD_DRY_RUN="true")
    assert (dry.status_code, dry.json()["digest"]) == (200, refused.json()["digest"])
    assert ask(after, HTTP_HERALD_AGREED=refused.json()["digest"]).status_code == 200
    assert ask(after).status_code == 200  # the same again reaches nobody else


def test_every_call_that_writes_is_marked_and_every_gated_one_is_tried(tmp_path: Path) -> None:
    call_command("spectacular", "--format", "openapi-json", "--file", str(tmp_path / "schema.json"))
    document = json.loads((tmp_path / "schema.json").read_text())
    writes = {
        call["operationId"]: call.get("x-membership")
        for calls in document["paths"].values()
        for method, call in calls.items()
        if method in ("post", "put", "patch", "delete")
    }
    assert [name for name, mark in writes.items() if mark is None] == []
    assert set(writes) == {*GATED_CALLS, *FREE_CALLS}  # and none is listed that is no more
    assert {name for name, mark in writes.items() if mark == "gated"} == set(GATED_CALLS)
    assert set(DOORS) | {"groups_convert_to_static", "capabilities_set"} == set(GATED_CALLS)
    assert mark_of("something_new") is None


def test_the_table_in_the_docs_lists_every_door() -> None:
    listed = re.findall(r"^\| `(\w+)` \| (.+) \|$", (ROOT / "docs" / "membership.md").read_text(), re.M)
    assert dict(listed) == dict(GATED_CALLS)


# -- what counts


def test_the_groups_that_name_the_group_are_counted_before_saving(client: APIClient) -> None:
    make_device(tags=["lab"])
    inner = make_rule_group("Inner", "tag = other")
    outer = make_rule_group("Outer", 'group = "Inner"')
    schedule = followed(outer)
    refused = client.patch(f"/api/v1/groups/{inner.pk}", {"rule": "tag = lab"}, format="json")
    assert refused.status_code == 409
    assert {(g["name"], g["joins"]) for g in refused.json()["groups"]} == {("Inner", 1), ("Outer", 1)}
    assert [(u["kind"], u["id"]) for u in refused.json()["uses"]] == [("schedule", schedule.pk)]
    assert not GroupMembership.objects.exists()


def test_standing_rollouts_and_freezes_follow_and_fixed_ones_do_not(client: APIClient) -> None:
    group, device = make_static("G", make_devices(1)), make_device()
    fixed = launched(make_draft(group))
    assert fixed.follows_audience is False
    body = {"add": [device.name], "remove": []}
    dry = client.post(f"/api/v1/groups/{group.pk}/members", body, format="json", HTTP_HERALD_DRY_RUN="true").json()
    assert dry["uses"] == []
    standing = launched(make_draft(group, fixed.changes.get().image, follows_audience=True))
    draft = FreezeDraft(name="F", starts_at=NOW, ends_at=NOW.replace(year=2027), groups=[group])
    freeze = save_freeze(draft, actor=None, now=NOW)
    dry = client.post(f"/api/v1/groups/{group.pk}/members", body, format="json", HTTP_HERALD_DRY_RUN="true").json()
    assert {(u["kind"], u["id"]) for u in dry["uses"]} == {("rollout", standing.pk), ("freeze", freeze.pk)}


def test_a_device_that_is_admitted_joins_what_follows_its_static_groups(client: APIClient) -> None:
    device = make_device(admission="waiting")
    followed(make_static("G", [device]))
    body = {"target": {"devices": [device.name]}, "admission": "admitted"}
    refused = client.post("/api/v1/edits", body, format="json")
    assert refused.status_code == 409
    assert [(u["joins"], u["leaves"]) for u in refused.json()["uses"]] == [(1, 0)]
    made = client.post("/api/v1/edits", body, format="json", HTTP_HERALD_AGREED=refused.json()["digest"])
    assert made.status_code == 201
    retire = client.post("/api/v1/edits", {**body, "admission": "retired"}, format="json")
    assert [(u["joins"], u["leaves"]) for u in retire.json()["uses"]] == [(0, 1)]
    undone = client.post(f"/api/v1/edits/{made.json()['id']}/undo")
    assert undone.status_code == 409 and undone.json()["uses"][0]["leaves"] == 1


def test_leaving_counts_as_joining_does(client: APIClient) -> None:
    devices = make_devices(3)
    group = make_static("G", devices)
    schedule = followed(group)
    body = {"add": [], "remove": [d.name for d in devices[:2]]}
    refused = client.post(f"/api/v1/groups/{group.pk}/members", body, format="json")
    assert refused.json()["digest"] == f"schedule:{schedule.pk}+0-2"


@pytest.mark.parametrize(
    ("agreed", "now", "covered"),
    [
        ("schedule:1+5-0", {"joins": 5}, True),
        ("schedule:1+5-0", {"joins": 4}, True),
        ("schedule:1+5-0", {"joins": 6}, False),
        ("schedule:1+99-0", {"joins": 100}, False),
        ("schedule:1+1000-0", {"joins": 1010}, True),
        ("schedule:1+1000-0", {"joins": 1011}, False),
        ("schedule:1+5-0", {"joins": 5, "leaves": 1}, False),
        ("rollout:1+5-0", {"joins": 5}, False),
        ("schedule:2+5-0", {"joins": 5}, False),
        ("rollout:9+9-9,schedule:1+5-2", {"joins": 5, "leaves": 2}, True),
        ("", {"joins": 1}, False),
        ("schedule:1+5", {"joins": 5}, False),
        ("schedule:1+-5-0,\x00;'", {"joins": 1}, False),
    ],
)
def test_what_was_agreed_to_covers_no_other_use_and_no_larger_number(
    agreed: str, now: dict[str, int], covered: bool
) -> None:
    use = Reference(kind="schedule", id=1, sentence="S", follows=True)
    assert _covers(agreed, Consequences(uses=[UseEffect(use=use, **now)])) is covered


def test_an_import_is_counted_with_its_new_and_its_changed_devices(client: APIClient) -> None:
    make_model()
    make_device(uid="OLD", name="old", tags=["lab"])
    make_device(uid="SAME", name="same", tags=["field"])
    make_rule_group("Lab", "tag = lab")
    make_rule_group("Named", "name starts with n")
    rows = ("uid,name,model,tag", "OLD,old,Sill 400,field", "SAME,same,Sill 400,field", "N1,n1,Sill 400,lab")
    file = "\n".join((*rows, "N2,n2,Sill 400,lab")).encode()
    made = imports.create_import(file, "d.csv", actor=None, now=NOW)
    imports.check(made.pk, now=NOW)
    dry = client.post(
        f"/api/v1/imports/{made.pk}/accept", {"all_or_nothing": True}, format="json", HTTP_HERALD_DRY_RUN="1"
    ).json()
    assert {(g["name"], g["joins"], g["leaves"]) for g in dry["groups"]} == {("Lab", 2, 1), ("Named", 2, 0)}
    assert Device.objects.count() == 2
