"""The life of a device: added by hand, admitted, given secrets, replaced, removed, and an import undone."""

from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from rest_framework.test import APIClient

from herald.fleet.models import Device, EnrolmentAttempt, PropertyDefinition, RemovedDevice
from herald.groups.membership import process_changed_devices
from herald.imports import services as imports
from herald.rollouts.models import Rollout
from tests.factories import (
    NOW,
    client_as,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_model,
    make_rule_group,
    make_site,
    make_static,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
V1 = "/api/v1"


def post(client: APIClient, path: str, body: Any = None, status: int | None = None) -> Any:
    answer = client.post(f"{V1}/{path}", body or {}, format="json")
    if status:
        assert answer.status_code == status, answer.content
    return answer.json() if answer.content else None


def pointers(body: Any) -> set[str]:
    return {e["pointer"] for e in body["errors"]}


# -- adding


def test_a_device_is_added_with_all_that_is_said_of_it_and_is_in_its_groups(client: APIClient) -> None:
    make_site("Hill", "Asia/Kolkata")
    PropertyDefinition.objects.create(key="crop", source="attribute", label="Crop", type="text")
    group = make_rule_group("G", "crop = olive and tag = lab")
    body = {"uid": "U-1", "model": make_model().name, "site": "Hill", "tags": ["Lab"], "attributes": {"crop": "olive"}}
    post(client, "devices/add", {**body, "interval": 60}, 201)
    device = Device.objects.get(uid="U-1")
    assert (device.name, device.time_zone, device.admission) == ("U-1", "Asia/Kolkata", "admitted")
    assert (device.check_in_interval_seconds, device.secret_hash) == (60, None)
    assert group.memberships.get().device == device


def test_everything_that_does_not_fit_is_said_at_once(client: APIClient) -> None:
    PropertyDefinition.objects.create(key="crop", source="attribute", label="Crop", type="text", required=True)
    taken = make_device()
    body = {"uid": taken.uid, "name": taken.name, "model": "Sil 400", "interval": 900}
    assert pointers(post(client, "devices/add", body, 422)) == {"/uid", "/name", "/model", "/attributes/crop"}
    wrong = {"model": make_model().name, "site": "Nowhere", "own_time_zone": "Mars/Base", "tags": ["Ä"]}
    assert pointers(post(client, "devices/add", wrong, 422)) == {"/uid", "/site", "/own_time_zone", "/tags"}
    assert Device.objects.count() == 1


def test_a_device_can_be_announced_by_its_serial_alone(client: APIClient) -> None:
    body = {"serial": "S-9", "model": make_model().name}
    assert post(client, "devices/add", body, 201)["uid"] == "serial:S-9"
    assert pointers(post(client, "devices/add", body, 422)) == {"/serial", "/name"}


# -- own time zone and interval


def test_own_time_zone_and_interval_are_set_for_many_previewed_and_undone(client: APIClient) -> None:
    devices = make_devices(3, site=make_site("Hill", "Asia/Kolkata"))
    east = make_rule_group("East", "time_zone = Australia/Darwin")
    target = {"target": {"devices": [d.name for d in devices]}, "own_time_zone": "Australia/Darwin", "interval": 60}
    told = post(client, "edits/preview", target, 200)
    assert [(g["name"], g["joins"]) for g in told["groups"]] == [("East", 3)]
    edit = post(client, "edits", target, 201)
    process_changed_devices(now=NOW)
    zones = Device.objects.values_list("time_zone", "own_time_zone", "check_in_interval_seconds")
    assert set(zones) == {("Australia/Darwin", "Australia/Darwin", 60)}
    assert east.memberships.count() == 3
    post(client, f"edits/{edit['id']}/undo", None, 200)
    assert set(zones.all()) == {("Asia/Kolkata", "", 900)}
    for wrong in ({"own_time_zone": "localtime"}, {"interval": 0}, {"interval": 10**9}):
        assert pointers(post(client, "edits", {"target": target["target"], **wrong}, 422)) == {f"/{next(iter(wrong))}"}


def test_a_shorter_interval_makes_a_device_late_and_its_groups_are_told_so(client: APIClient) -> None:
    device = make_device(last_check_in=NOW.replace(minute=0, hour=1))  # an hour ago
    Device.objects.update(check_in_interval_seconds=3600)
    make_rule_group("Late", "presence = late")
    told = post(client, "edits/preview", {"target": {"devices": [device.name]}, "interval": 60}, 200)
    assert [(g["name"], g["joins"]) for g in told["groups"]] == [("Late", 1)]


# -- secrets


def test_a_revoked_secret_opens_nothing_and_an_issued_one_is_shown_once(client: APIClient) -> None:
    device = make_device()
    old = device.secret_hash
    EnrolmentAttempt.objects.create(uid=device.uid, cause="enrolled", first_at=NOW, last_at=NOW)
    post(client, f"devices/{device.name}/secret/revoke", None, 204)
    device.refresh_from_db()
    assert device.secret_hash is None and not EnrolmentAttempt.objects.exists()
    assert "no secret" in post(client, f"devices/{device.name}/secret/revoke", None, 409)["detail"]
    post(client, f"devices/{device.name}/secret/issue", None, 403)
    secret = post(client_as("administrator"), f"devices/{device.name}/secret/issue", None, 200)["secret"]
    device.refresh_from_db()
    assert device.secret_hash not in (None, old) and secret not in str(device.__dict__)
    Device.objects.update(admission="retired")
    post(client_as("administrator"), f"devices/{device.name}/secret/issue", None, 409)


# -- the queue


def test_the_queue_lists_who_waits_and_who_was_refused(client: APIClient) -> None:
    waiting, known = make_device(admission="waiting"), make_device()
    EnrolmentAttempt.objects.note(known.uid, "enrolled", NOW, serial="S", model="Sill 400")
    EnrolmentAttempt.objects.note(known.uid, "enrolled", NOW, serial="S", model="Sill 400")
    EnrolmentAttempt.objects.note("OTHER", "bad-code", NOW)
    queue = client.get(f"{V1}/admissions").json()
    assert queue["waiting_count"] == 1 and [d["name"] for d in queue["waiting"]] == [waiting.name]
    found = {a["uid"]: (a["cause"], a["tries"], a["device"]) for a in queue["attempts"]}
    assert found == {known.uid: ("enrolled", 2, known.name), "OTHER": ("bad-code", 1, None)}
    dismissed = EnrolmentAttempt.objects.get(uid="OTHER")
    assert client.delete(f"{V1}/admissions/attempts/{dismissed.pk}").status_code == 204
    assert [a["uid"] for a in client.get(f"{V1}/admissions").json()["attempts"]] == [known.uid]


# -- replacing


def test_a_replacement_takes_name_place_groups_and_admission_and_the_old_one_is_retired(client: APIClient) -> None:
    PropertyDefinition.objects.create(key="crop", source="attribute", label="Crop", type="text")
    old = make_device(name="Pump 7", tags=["a"], attributes={"crop": "olive"}, site=make_site("Hill", "Asia/Kolkata"))
    new = make_device(tags=["b"], admission="waiting")
    group = make_static("G", [old])
    rollout = launched(make_draft(make_static("R", [old])))
    told = post(client, "devices/Pump 7/replace/preview", {"by": new.name}, 200)
    assert told["old_name"] == "Pump 7, replaced 2026-11-23"
    assert ([g["name"] for g in told["groups"]], told["withdrawn"], told["finishing"]) == (["G", "R"], 1, 0)
    post(client, "devices/Pump 7/replace", {"by": new.name}, 200)
    old.refresh_from_db(), new.refresh_from_db()
    assert (new.name, new.admission, new.tags) == ("Pump 7", "admitted", ["a", "b"])
    assert (new.attributes, new.site, new.time_zone) == ({"crop": "olive"}, old.site, "Asia/Kolkata")
    assert (old.name, old.admission) == (told["old_name"], "retired")
    assert [m.device for m in group.memberships.all()] == [new]
    assert rollout.deliveries.get().phase == "withdrawn"


def test_what_cannot_replace_is_refused_and_nothing_is_changed(client: APIClient) -> None:
    old, retired = make_device(), make_device(admission="retired")
    post(client, f"devices/{old.name}/replace", {"by": old.name}, 422)
    post(client, f"devices/{old.name}/replace", {"by": retired.name}, 409)
    post(client, f"devices/{retired.name}/replace", {"by": old.name}, 409)
    post(client, f"devices/{old.name}/replace", {"by": "nobody"}, 404)
    old.refresh_from_db()
    assert old.admission == "admitted"


# -- removing


def test_only_a_retired_device_is_removed_and_its_name_is_typed(client: APIClient) -> None:
    admin = client_as("administrator")
    device, other = make_devices(2)
    rollout = launched(make_draft(make_static("R", [device, other])))
    uid, name = device.uid, device.name
    post(client, f"devices/{name}/removal", {"name": name}, 403)
    post(admin, f"devices/{name}/removal", {"name": name}, 409)
    Device.objects.filter(pk=device.pk).update(admission="retired")
    assert admin.get(f"{V1}/devices/{name}/removal").json() == {"orders": 1, "rollouts": 1, "commands": 0, "groups": 1}
    post(admin, f"devices/{name}/removal", {"name": "other"}, 422)
    post(admin, f"devices/{name}/removal", {"name": name}, 204)
    assert not Device.objects.filter(uid=uid).exists()
    assert RemovedDevice.objects.get().rollouts == [rollout.pk]
    detail = client.get(f"{V1}/rollouts/{rollout.pk}").json()
    assert detail["removed_devices"] == 1 and sum(detail["phases"].values()) == 1


def test_the_uid_of_a_removed_device_is_taken_until_it_is_let_in_again(client: APIClient) -> None:
    RemovedDevice.objects.create(uid="U", name="N", removed_at=NOW)
    body = {"uid": "U", "model": make_model().name}
    assert pointers(post(client, "devices/add", body, 422)) == {"/uid"}
    post(client_as("administrator"), "admissions/let-in-again", {"uid": "U"}, 204)
    post(client_as("administrator"), "admissions/let-in-again", {"uid": "U"}, 409)
    post(client, "devices/add", body, 201)


# -- undoing an import


def brought_in(client: APIClient, text: str, **accept: Any) -> int:
    make_model()
    file = SimpleUploadedFile("d.csv", text.encode())
    made: int = client.post(f"{V1}/imports", {"file": file}, format="multipart").json()["id"]
    imports.check(made, now=NOW)
    post(client, f"imports/{made}/accept", accept, 200)
    imports.write(made, now=NOW)
    process_changed_devices(now=NOW)
    return made


def test_an_import_is_undone_as_one_step(client: APIClient) -> None:
    old = make_device(tags=["old"])
    group = make_rule_group("G", "tag = lab")
    made = brought_in(client, f"uid,model,tag\n{old.uid},Sill 400,lab\nNEW-1,Sill 400,lab\nNEW-2,Sill 400,lab\n")
    Device.objects.filter(uid="NEW-2").update(secret_hash="x" * 64)
    assert group.memberships.count() == 3
    told = {"restored": 1, "removed": 1, "kept_waiting": 1, "changed_since": 0}
    assert client.get(f"{V1}/imports/{made}/undo").json() == told
    assert post(client, f"imports/{made}/undo", None, 200) == told
    process_changed_devices(now=NOW)
    assert dict(Device.objects.values_list("uid", "admission")) == {old.uid: "admitted", "NEW-2": "waiting"}
    assert Device.objects.get(uid=old.uid).tags == ["old"]
    assert [m.device.uid for m in group.memberships.all()] == ["NEW-2"]
    post(client, f"imports/{made}/undo", None, 409)


def test_an_import_whose_devices_were_changed_since_is_not_undone(client: APIClient) -> None:
    made = brought_in(client, "uid,model\nNEW-1,Sill 400\nNEW-2,Sill 400\n")
    post(client, "edits", {"target": {"devices": ["NEW-1"]}, "add_tags": ["lab"]}, 201)
    assert client.get(f"{V1}/imports/{made}/undo").json()["changed_since"] == 1
    assert post(client, f"imports/{made}/undo", None, 409)["devices"] == 1
    assert Device.objects.count() == 2


def test_what_an_import_that_was_cancelled_had_written_can_be_undone(client: APIClient) -> None:
    make_model()
    file = SimpleUploadedFile("d.csv", b"uid,model\nNEW,Sill 400\n")
    made = client.post(f"{V1}/imports", {"file": file}, format="multipart").json()["id"]
    post(client, f"imports/{made}/cancel", None, 200)
    post(client, f"imports/{made}/undo", None, 409)
    listed = client.get(f"{V1}/imports").json()["imports"]
    assert [(i["id"], i["state"]) for i in listed] == [(made, "cancelled")]


def test_a_draft_never_loses_a_device_that_is_only_retired(client: APIClient) -> None:
    device = make_device()
    draft = make_draft(make_static("R", [device]))
    Device.objects.update(admission="retired")
    assert Rollout.objects.filter(pk=draft.pk).exists()
    assert client.get(f"{V1}/devices/{device.name}/removal").status_code == 200
