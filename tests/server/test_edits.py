"""Editing devices: previewed, applied as one step, undone as one."""

from typing import Any

import pytest
from procrastinate.contrib.django.models import ProcrastinateJob
from rest_framework.test import APIClient

from herald.edits import services
from herald.edits.change import RequestedEdit
from herald.edits.models import Edit, EditState
from herald.edits.services import Target, preview_edit, request_edit, request_undo, undo_edit
from herald.fleet.models import Custodian, Device, PropertyDefinition, Tag
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.membership import process_changed_devices
from herald.groups.models import Group
from herald.groups.rule_queries import matching
from herald.groups.rules import read_rule
from herald.http.errors import Conflict, Invalid, InvalidFields, NobodyThere
from tests.factories import NOW, make_device, make_devices, make_draft, make_rule_group, make_site, make_user

pytestmark = pytest.mark.django_db


@pytest.fixture(autouse=True)
def _attributes() -> None:
    PropertyDefinition.objects.create(key="crop", source="attribute", label="Crop", type="text")
    PropertyDefinition.objects.create(key="loader", source="attribute", label="Loader", type="version")
    PropertyDefinition.objects.create(
        key="mounting", source="attribute", label="Mounting", type="choice", choices=["mast", "wall"]
    )


def edit(target: Target, **asked: Any) -> Edit:
    return request_edit(RequestedEdit(**asked), target, actor=None, now=NOW)


def names(group: Group) -> set[str]:
    return set(group.memberships.values_list("device__name", flat=True))


def test_the_preview_says_who_changes_and_which_groups_gain_and_lose() -> None:
    make_devices(2, tags=["frost_zone"])
    make_device(tags=["frost-zone"])
    frost = make_rule_group("Frost", "tag = frost-zone")
    make_rule_group("Not frost", 'not group = "Frost"')
    make_draft(frost)

    found = preview_edit(
        RequestedEdit(add_tags=["Frost-Zone"], remove_tags=["frost_zone"]), Target(rule="tag = frost_zone"), now=NOW
    )

    assert (found.targeted, found.changing) == (2, 2)
    assert {(e.group.name, e.joins, e.leaves) for e in found.groups} == {("Frost", 2, 0), ("Not frost", 0, 2)}
    assert "Rollout" in next(e for e in found.groups if e.group == frost).uses[0].sentence
    assert not Edit.objects.exists()


def test_an_edit_is_what_the_preview_said_and_groups_follow() -> None:
    changing = make_devices(3, tags=["spare"])
    make_device(tags=["lab"])
    group = make_rule_group("Lab", "tag = lab and crop = olive")

    done = edit(Target(rule="everything"), set_attributes={"crop": "olive"}, add_tags=["lab", "new"])
    process_changed_devices(now=NOW)

    assert (done.state, done.done_count, done.sentence) == (
        EditState.DONE,
        4,
        "Set crop to olive and add the tags lab, new on 4 devices",
    )
    assert group.memberships.count() == 4
    changing[0].refresh_from_db()
    assert (changing[0].tags, changing[0].attributes) == (["spare", "lab", "new"], {"crop": "olive"})
    assert Tag.objects.filter(slug="new").exists()


def test_versions_sites_and_custodians_are_written_whole() -> None:
    make_site("Hill", "Asia/Kolkata")
    who = Custodian.objects.create(name="north", email="n@example.com")
    device = make_device()

    edit(Target(devices=[device.name]), set_attributes={"loader": "1.10"}, site="Hill", custodian="north")

    device.refresh_from_db()
    assert (device.time_zone, device.custodian) == ("Asia/Kolkata", who)
    vocabulary = load_vocabulary()
    assert matching(read_rule("loader > 1.9", vocabulary), vocabulary, NOW).get() == device
    edit(Target(devices=[device.uid]), clear_attributes=["loader"], custodian="")
    device.refresh_from_db()
    assert (device.attributes, device.version_keys, device.custodian) == ({}, {}, None)


def test_an_edit_is_undone_as_one_step() -> None:
    devices = make_devices(2, tags=["a"], attributes={"crop": "vine"})
    done = edit(Target(rule="tag = a"), set_attributes={"crop": "olive"}, admission="retired", remove_tags=["a"])

    request_undo(done, actor=None, now=NOW)

    for device in devices:
        device.refresh_from_db()
        assert (device.tags, device.attributes, device.admission) == (["a"], {"crop": "vine"}, "admitted")
    with pytest.raises(Conflict):
        request_undo(done, actor=None, now=NOW)


def test_what_somebody_changed_since_is_not_undone() -> None:
    first, _ = make_devices(2)
    done = edit(Target(rule="everything"), add_tags=["x"])
    edit(Target(devices=[first.name]), add_tags=["y"])

    with pytest.raises(Conflict, match="1 of 2 devices were changed since"):
        request_undo(done, actor=None, now=NOW)
    first.refresh_from_db()
    assert first.tags == ["x", "y"]


def test_every_field_that_does_not_fit_is_named_and_nothing_is_written() -> None:
    device = make_device()

    with pytest.raises(InvalidFields) as caught:
        edit(
            Target(rule="everything"),
            set_attributes={"mounting": "mats", "firmware": "9", "colour": "red"},
            site="Nowhere",
            add_tags=["ö"],
        )

    found = {e["pointer"]: e["message"] for e in caught.value.extra["errors"]}
    assert set(found) == {
        "/set_attributes/mounting",
        "/set_attributes/firmware",
        "/site",
        "/add_tags",
        "/set_attributes/colour",
    }
    assert "did you mean mast" in found["/set_attributes/mounting"]
    device.refresh_from_db()
    assert (device.attributes, Edit.objects.count()) == ({}, 0)


def test_nobody_and_nothing_are_refused() -> None:
    device = make_device(tags=["a"])

    with pytest.raises(NobodyThere):
        edit(Target(rule="tag = a"), add_tags=["a"])
    with pytest.raises(Invalid):
        edit(Target(), add_tags=["b"])
    with pytest.raises(InvalidFields, match="Nothing to change"):
        edit(Target(devices=[device.name]))
    with pytest.raises(Conflict, match="name"):
        other = make_device()
        edit(Target(devices=[device.name]), name=other.name)


def test_a_large_edit_is_a_job_that_can_stop_and_go_on(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(services, "CHUNK", 2)
    make_devices(5)

    begun = edit(Target(rule="everything"), add_tags=["x"])

    assert (begun.state, begun.done_count) == (EditState.RUNNING, 0)
    assert ProcrastinateJob.objects.get().task_name.endswith("run_edit")
    assert services.apply_next(begun.pk, now=NOW) is True
    begun.refresh_from_db()
    assert begun.done_count == Device.objects.filter(tags=["x"]).count() == 2
    while services.apply_next(begun.pk, now=NOW):
        pass
    begun.refresh_from_db()
    assert (begun.state, begun.done_count) == (EditState.DONE, 5)
    assert services.apply_next(begun.pk, now=NOW) is False


def test_the_calls_preview_apply_and_undo() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    make_devices(2)
    body = {"target": {"rule": "everything"}, "add_tags": ["x"]}

    assert client.post("/api/v1/edits/preview", body, format="json").json()["changing"] == 2
    done = client.post("/api/v1/edits", body, format="json").json()
    assert client.get(f"/api/v1/edits/{done['id']}").json()["state"] == "done"
    assert client.post(f"/api/v1/edits/{done['id']}/undo").json()["state"] == "undone"
    assert [e["state"] for e in client.get("/api/v1/edits").json()["edits"]] == ["undone"]
    assert client.post("/api/v1/edits", {"add_tags": ["x"]}, format="json").status_code == 422
    client.force_authenticate(make_user("viewer"))
    assert client.post("/api/v1/edits", body, format="json").status_code == 403


def test_a_large_edit_is_undone_by_a_job_or_stands_and_says_why(monkeypatch: pytest.MonkeyPatch) -> None:
    from herald.edits import services, tasks

    asked: list[int] = []
    monkeypatch.setattr(tasks.carry_out_undo, "defer", lambda edit_id: asked.append(edit_id))
    devices = make_devices(3)
    everybody = Target(devices=[d.name for d in devices])
    done = request_edit(RequestedEdit(add_tags=["many"]), everybody, actor=None, now=NOW)
    monkeypatch.setattr(services, "CHUNK", 2)

    assert request_undo(done, actor=None, now=NOW).state == "undoing"
    with pytest.raises(Conflict, match="undo"):
        request_undo(done, actor=None, now=NOW)
    Device.objects.filter(pk=devices[0].pk).update(tags=["other"])
    tasks.carry_out_undo(edit_id=done.pk)
    done.refresh_from_db()
    assert (done.state, done.reason[:25]) == ("done", "1 of 3 devices were chang")
    assert Device.objects.get(pk=devices[1].pk).tags == ["many"]

    Device.objects.filter(pk=devices[0].pk).update(tags=["many"])
    request_undo(done, actor=None, now=NOW)
    for edit_id in asked[1:]:
        undo_edit(edit_id, now=NOW)
        undo_edit(edit_id, now=NOW)  # a repeat after a crash changes nothing
    done.refresh_from_db()
    assert (done.state, Device.objects.filter(tags__contains=["many"]).count()) == ("undone", 0)
