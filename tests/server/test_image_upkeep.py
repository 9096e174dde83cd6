"""Looking after images: cleaning up and its undo, release on arrival, a change of keys, and whom an image is for."""

import json
from datetime import timedelta
from pathlib import Path
from typing import Any

import jwt
import pytest
from rest_framework.test import APIClient

from herald.fleet.models import Device
from herald.http.errors import Conflict, Invalid
from herald.images import approval, cleanup, services, signing, uploads
from herald.images.coverage import shares
from herald.images.models import Image, ImageCleanup, SigningKey
from herald.images.signing import published_keys
from herald.record.models import RecordEntry
from herald.rollouts.engine.tick import tick_rollouts
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_image,
    make_model,
    make_static,
    make_user,
)

pytestmark = pytest.mark.django_db
WEEK = timedelta(days=7)


def kept() -> dict[str, str]:
    return {c.image.version: c.kept_because for c in cleanup.preview_cleanup(now=NOW)}


def file_of(image: Image, settings: Any) -> Path:
    return Path(settings.IMAGES_DIR) / image.sha256


# -- cleaning up -------------------------------------------------------------------------------------


def test_the_rehearsal_says_of_each_image_why_it_is_kept() -> None:
    make_devices(2, firmware="5.1.0")
    make_device(firmware="4.9.0")
    for version, fields in (
        ("4.0.0", {}),
        ("5.0.0", {"min_version": "4.0.0"}),
        ("5.1.0", {"min_version": "5.0.0"}),
        ("5.1.1", {"min_version": "5.0.0"}),
        ("5.2.0", {"min_version": "5.0.0"}),
    ):
        make_image(version, content=version.encode(), **fields)
    services.withdraw(Image.objects.get(version="5.1.1"), "bad", actor=None, now=NOW)
    assert kept() == {
        "5.2.0": "it is the newest approved",
        "5.1.1": "",
        "5.1.0": "2 devices run it",
        "5.0.0": "1 devices need it on their way to the newest",
        "4.0.0": "",
    }


def test_what_is_planned_or_may_be_put_back_is_kept() -> None:
    device = make_device(firmware="5.1.0")
    make_image("5.1.0", content=b"old")
    target = make_image("5.2.1", content=b"target")
    draft = make_draft(make_static("G", [device]), target)
    assert kept()["5.2.1"].startswith(f"rollout {draft.pk} of Sill 5.2.1 (draft)")
    launched(draft)
    tick_rollouts(now=NOW)
    Device.objects.update(firmware="5.2.1", firmware_key=target.version_key)
    assert "may be rolled back" in kept()["5.1.0"]
    assert {c.image.version: c.kept_because for c in cleanup.preview_cleanup(now=NOW + timedelta(days=90))}[
        "5.1.0"
    ] == ""


def test_cleaning_is_undone_within_a_week_and_final_after_it(settings: Any) -> None:
    make_device(firmware="9.0.0")
    make_image("9.0.0", content=b"newest")
    old, older = make_image("4.0.0", content=b"old"), make_image("3.0.0", content=b"older file")
    services.withdraw(older, "bad", actor=None, now=NOW)
    done = cleanup.clean([old.pk, older.pk], actor=make_user(), now=NOW)
    assert done.freed_bytes == len(b"old") + len(b"older file")
    assert {i.version for i in Image.objects.listed()} == {"9.0.0"}
    assert file_of(old, settings).exists()  # for the undo
    cleanup.undo(done, actor=None, now=NOW)
    assert {i.version: i.status for i in Image.objects.listed()} == {
        "9.0.0": "approved",
        "4.0.0": "approved",
        "3.0.0": "withdrawn",
    }
    with pytest.raises(Conflict, match="undone before"):
        cleanup.undo(done, actor=None, now=NOW)
    again = cleanup.clean([old.pk], actor=None, now=NOW)
    assert cleanup.purge(now=NOW + WEEK - timedelta(minutes=1)) == 0
    assert cleanup.purge(now=NOW + WEEK) == 1
    assert not file_of(old, settings).exists() and file_of(older, settings).exists()
    assert cleanup.purge(now=NOW + WEEK) == 0
    with pytest.raises(Conflict, match="Import them again"):
        cleanup.undo(again, actor=None, now=NOW + WEEK)
    make_image("4.0.0", content=b"old")  # its version is free again
    assert file_of(old, settings).exists()


def test_a_kill_between_the_mark_and_the_files_is_made_good(settings: Any) -> None:
    make_image("9.0.0", content=b"newest")
    old = make_image("4.0.0", content=b"old")
    done = cleanup.clean([old.pk], actor=None, now=NOW)
    ImageCleanup.objects.filter(pk=done.pk).update(purged_at=NOW + WEEK)  # marked, then killed
    assert cleanup.purge(now=NOW + WEEK + timedelta(minutes=1)) == 1
    assert not file_of(old, settings).exists()


def test_a_file_that_another_image_shares_stays(settings: Any) -> None:
    make_image("9.0.0", content=b"same")
    old = make_image("4.0.0", content=b"same")
    done = cleanup.clean([old.pk], actor=None, now=NOW)
    assert done.freed_bytes == 0
    assert cleanup.purge(now=NOW + WEEK) == 0 and file_of(old, settings).exists()


def test_what_is_needed_by_now_is_not_cleaned() -> None:
    make_image("9.0.0", content=b"newest")
    old = make_image("4.0.0", content=b"old")
    make_device(firmware="4.0.0")
    with pytest.raises(Conflict, match=r"nothing was cleaned: Sill 4\.0\.0: 1 devices run it"):
        cleanup.clean([old.pk], actor=None, now=NOW)
    with pytest.raises(Conflict, match="gone already"):
        cleanup.clean([999_999], actor=None, now=NOW)
    with pytest.raises(Invalid, match="Name the images"):
        cleanup.clean([], actor=None, now=NOW)
    assert ImageCleanup.objects.count() == 0


# -- release on arrival ------------------------------------------------------------------------------


def arrive(version: str, *models: str) -> Image:
    upload = uploads.begin_upload(f"{version}.bin", 4, actor=None, now=NOW)
    upload = uploads.append(upload.pk, 0, b"file", now=NOW)
    chosen = [make_model(m) for m in models]
    return services.add_uploaded(upload, models=chosen, version=version, actor=make_user(), now=NOW)


def test_an_image_is_approved_on_arrival_only_where_all_its_models_are_set_so() -> None:
    make_image("0.9")  # makes the key
    model = make_model("Sill 400")
    make_model("Sill 380")
    approval.set_release(model, on_arrival=True, actor=make_user(), now=NOW)
    with pytest.raises(Conflict, match="on arrival already"):
        approval.set_release(model, on_arrival=True, actor=None, now=NOW)
    both = arrive("1.0", "Sill 400", "Sill 380")
    one = arrive("1.1", "Sill 400")
    both.refresh_from_db()
    one.refresh_from_db()
    assert (both.status, one.status, one.approved_by) == ("new", "approved", None)
    assert one.signature
    sentences = list(RecordEntry.objects.values_list("sentence", flat=True))
    assert "Approved Sill 1.1 on arrival, as its models are set to" in sentences
    approval.set_release(model, on_arrival=False, actor=None, now=NOW)
    assert Image.objects.get(pk=arrive("1.2", "Sill 400").pk).status == "new"


# -- keys ----------------------------------------------------------------------------------------------


def verified_by(image: Image, keys: list[dict[str, Any]]) -> str:
    """The id of the published key that verifies the image's signature."""
    kid = jwt.get_unverified_header(image.signature)["kid"]
    key = next(k for k in keys if k["kid"] == kid)
    payload = json.loads(jwt.api_jws.decode(image.signature, jwt.PyJWK(key).key, algorithms=["EdDSA"]))
    assert payload["sha256"] == image.sha256
    return str(kid)


def test_a_change_of_keys_signs_anew_and_leaves_what_was_signed_verifiable() -> None:
    image = make_image("1.0", content=b"a")
    before = Image.objects.get(pk=image.pk)
    done = approval.rotate_key(actor=make_user(), now=NOW)
    image.refresh_from_db()
    assert done.signed == 1
    assert verified_by(image, published_keys()) == done.kid
    old = verified_by(before, published_keys())  # a device in the middle of a fetch has the old signature
    assert old != done.kid
    by_kid = {k["kid"]: k for k in published_keys()}
    assert "endorsement" not in by_kid[old]
    endorsed = jwt.api_jws.decode(by_kid[done.kid]["endorsement"], jwt.PyJWK(by_kid[old]).key, algorithms=["EdDSA"])
    assert json.loads(endorsed)["x"] == by_kid[done.kid]["x"]  # whoever trusts the old key may trust the new one
    fresh = make_image("2.0", content=b"b")
    assert verified_by(fresh, published_keys()) == done.kid
    with pytest.raises(Conflict, match="signs images now"):
        approval.revoke_key(done.kid, actor=None, now=NOW)
    approval.revoke_key(old, actor=make_user(), now=NOW)
    assert [k["kid"] for k in published_keys()] == [done.kid]
    with pytest.raises(Conflict, match="revoked already"):
        approval.revoke_key(old, actor=None, now=NOW)
    assert SigningKey.objects.count() == 2


def test_what_is_signed_says_for_whom_an_image_is_and_an_older_signature_is_made_anew() -> None:
    image = make_image("1.0", content=b"a", hardware_revisions=["C", "B"])
    content = json.loads(jwt.api_jws.decode(image.signature, options={"verify_signature": False}))
    assert content == {
        "version": "1.0",
        "models": ["Sill 400"],
        "hardware_revisions": ["B", "C"],
        "size": 1,
        "sha256": image.sha256,
    }
    assert signing.sign_outdated() == 0
    Image.objects.update(signature=signing._jws(signing.private_key(), {"version": "1.0", "size": 1}))
    assert signing.sign_outdated() == 1
    image.refresh_from_db()
    assert json.loads(jwt.api_jws.decode(image.signature, options={"verify_signature": False})) == content


# -- whom an image is for ------------------------------------------------------------------------------


def test_an_image_says_whom_it_fits_is_ready_for_runs_it_and_failed_on_it() -> None:
    make_devices(3, firmware="5.1.0")
    make_device(firmware="4.0.0")  # no way to it
    make_device(firmware="5.2.1")
    make_device(firmware="6.0.0")  # newer
    make_device(firmware="5.1.0", hardware_revision="Z")
    make_device(firmware="5.1.0", admission="retired")
    image = make_image("5.2.1", min_version="5.0.0", hardware_revisions=["B"])
    found = shares([image], NOW.date())[image.pk]
    assert (found.fits, found.ready, found.runs, found.failed) == (6, 3, 1, 0)
    make_image("5.0.0", content=b"step")
    assert shares([image], NOW.date())[image.pk].ready == 4  # by way of 5.0.0
    services.withdraw(image, "bad", actor=None, now=NOW)
    image.refresh_from_db()
    assert shares([image], NOW.date())[image.pk].ready == 0


def test_the_calls_do_what_they_say() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    make_image("9.0.0", content=b"newest")
    old = make_image("4.0.0", content=b"old")
    told = client.get("/api/v1/image-cleanups/preview").json()
    assert [(i["name"], i["kept_because"]) for i in told["images"]] == [
        ("Sill 9.0.0", "it is the newest approved"),
        ("Sill 4.0.0", ""),
    ]
    assert told["frees_bytes"] == 3
    done = client.post("/api/v1/image-cleanups", {"images": [old.pk]}, format="json")
    assert done.status_code == 201 and done.json()["images"] == ["Sill 4.0.0"]
    assert [i["name"] for i in client.get("/api/v1/images").json()] == ["Sill 9.0.0"]
    assert client.get("/api/v1/image-cleanups").json()["cleanups"][0]["undo_until"] is not None
    undone = client.post(f"/api/v1/image-cleanups/{done.json()['id']}/undo")
    assert undone.json()["undone_at"] and undone.json()["undo_until"] is None
    model = make_model()
    client.force_authenticate(make_user("administrator"))
    modes = client.put(f"/api/v1/models/{model.pk}/approval-policy", {"on_arrival": True}, format="json").json()
    assert [(m["model"], m["on_arrival"], m["set_by"]) for m in modes] == [("Sill 400", True, "U. Ser")]
    turned = client.post("/api/v1/signing-keys").json()
    assert turned["signed"] == 2
    keys = client.get("/api/v1/signing-keys").json()
    assert [k["retired_at"] is None for k in keys].count(True) == 1
    retired = next(k["kid"] for k in keys if k["retired_at"])
    assert client.delete(f"/api/v1/signing-keys/{retired}").json()["revoked_at"]
    assert client.delete(f"/api/v1/signing-keys/{turned['kid']}").status_code == 409
