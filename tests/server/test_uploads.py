"""Files that come in piece by piece, and what becomes of an image: approved by another, withdrawn."""

import hashlib
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from django.db import IntegrityError, transaction
from hypothesis import given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st
from rest_framework.test import APIClient

from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.http.errors import Conflict, Invalid
from herald.images import uploads
from herald.images.models import Image, Upload
from herald.images.services import add_uploaded, approve, preview_withdrawal, withdraw
from herald.images.signing import ensure_key
from herald.rollouts.intervene.lifecycle import resume
from herald.rollouts.models import Rollout
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


def pieces_on_disk(settings: Any) -> list[Path]:
    return list((Path(settings.IMAGES_DIR) / "uploads").glob("*"))


def come_in(content: bytes, name: str = "sill-6.bin") -> Upload:
    upload = uploads.begin_upload(name, len(content), actor=None, now=NOW)
    half = len(content) // 2
    uploads.append(upload.pk, 0, content[:half], now=NOW)
    return uploads.append(upload.pk, half, content[half:], now=NOW)


def test_a_file_comes_in_pieces_and_becomes_an_image(settings: Any) -> None:
    person, content = make_user(), b"new firmware" * 1000
    image = add_uploaded(come_in(content), models=[make_model()], version="v6.0", actor=person, now=NOW)

    assert (image.sha256, image.size_bytes) == (hashlib.sha256(content).hexdigest(), len(content))
    assert (Path(settings.IMAGES_DIR) / image.sha256).read_bytes() == content
    assert (image.status, image.added_by, image.family) == ("new", person, "Sill")
    assert pieces_on_disk(settings) == []
    assert not Upload.objects.exists()


def test_the_hash_is_reckoned_as_the_file_comes_and_anew_where_another_process_had_pieces(
    settings: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    content = b"new firmware" * 1000
    whole = come_in(content)
    monkeypatch.setattr(hashlib, "file_digest", lambda *_: pytest.fail("the file was read again"))
    assert uploads.sha256_of(whole) == hashlib.sha256(content).hexdigest()
    monkeypatch.undo()
    begun_elsewhere = uploads.begin_upload("b", len(content), actor=None, now=NOW)
    uploads.append(begun_elsewhere.pk, 0, content[:100], now=NOW)
    monkeypatch.setattr(uploads, "_running", uploads._Running())
    uploads.append(begun_elsewhere.pk, 100, content[100:], now=NOW)
    assert uploads.sha256_of(begun_elsewhere) == hashlib.sha256(content).hexdigest()


def test_a_cut_piece_is_written_anew_and_a_repeated_one_is_refused_with_the_place(settings: Any) -> None:
    upload = uploads.begin_upload("a", 10, actor=None, now=NOW)
    uploads.append(upload.pk, 0, b"abc", now=NOW)
    with uploads.path_of(upload).open("ab") as file:
        file.write(b"xx")  # what a crash left
    with pytest.raises(Conflict) as refused:
        uploads.append(upload.pk, 0, b"abc", now=NOW)
    assert refused.value.extra["received"] == 3
    with pytest.raises(Invalid):
        uploads.append(upload.pk, 3, b"too long", now=NOW)
    done = uploads.append(upload.pk, 3, b"defghij", now=NOW)
    assert (uploads.path_of(done).read_bytes(), done.received_bytes) == (b"abcdefghij", 10)


def test_what_is_not_whole_or_does_not_fit_is_refused_and_keeps_the_upload(settings: Any) -> None:
    make_image("5.2.1")
    half = uploads.begin_upload("a", 10, actor=None, now=NOW)
    by: dict[str, Any] = {"models": [make_model()], "actor": None, "now": NOW}
    with pytest.raises(Conflict, match="Of 10 bytes 0 have come"):
        add_uploaded(half, version="6.0", **by)
    whole = come_in(b"0123456789")
    with pytest.raises(Invalid, match="no version"):
        add_uploaded(whole, version="six o", **by)
    with pytest.raises(Invalid, match="one family"):
        add_uploaded(whole, version="6.0", **{**by, "models": [make_model(), make_model("Rill V2", "Rill")]})
    with pytest.raises(Conflict, match=r"version 5\.2\.1 for one of these models already"):
        add_uploaded(whole, version="5.2.1", **by)
    assert (whole.received_bytes, uploads.path_of(whole).is_file()) == (10, True)
    assert Image.objects.count() == 1


def test_a_file_too_large_for_the_disk_or_for_us_does_not_begin(monkeypatch: pytest.MonkeyPatch) -> None:
    for size in (0, uploads.MAX_BYTES + 1):
        with pytest.raises(Invalid):
            uploads.begin_upload("a", size, actor=None, now=NOW)
    monkeypatch.setattr("shutil.disk_usage", lambda _: type("U", (), {"free": 1000})())
    with pytest.raises(Conflict, match="disk"):
        uploads.begin_upload("a", 10, actor=None, now=NOW)


def test_what_nobody_goes_on_with_is_forgotten_after_a_day(settings: Any) -> None:
    old = uploads.begin_upload("a", 10, actor=None, now=NOW - timedelta(days=2))
    uploads.append(old.pk, 0, b"abc", now=NOW - timedelta(days=2))
    kept = come_in(b"0123456789")
    assert uploads.delete_stale_uploads(now=NOW) == 1
    assert list(Upload.objects.all()) == [kept]
    assert [p.name for p in pieces_on_disk(settings)] == [str(kept.pk)]
    uploads.discard(kept)
    assert pieces_on_disk(settings) == []


def test_an_image_is_approved_by_somebody_else() -> None:
    ensure_key(now=NOW)
    adder, other = make_user(), make_user("approver")
    image = add_uploaded(come_in(b"0123456789"), models=[make_model()], version="6.0", actor=adder, now=NOW)
    with pytest.raises(Conflict, match="somebody else"):
        approve(image, actor=adder, now=NOW)
    image = approve(image, actor=other, now=NOW)
    assert (image.status, image.approved_by) == ("approved", other)
    with pytest.raises(Conflict, match="approved already"):
        approve(image, actor=other, now=NOW)
    with pytest.raises(IntegrityError, match="image_approved_by_another"), transaction.atomic():
        Image.objects.filter(pk=image.pk).update(approved_by=adder)


def test_a_withdrawn_image_stops_what_sends_it_and_stays_where_it_runs() -> None:
    image = make_image("5.2.1")
    make_device(firmware="5.2.1")
    devices = make_devices(3)
    rollout = launched(make_draft(make_static("G", devices), image))
    offer = Delivery.objects.of_rollout(rollout.pk).values_list("id", flat=True)[:2]
    deliveries.offer(list(offer), until=NOW + timedelta(hours=1), now=NOW)

    told = preview_withdrawal(image, now=NOW)
    assert (told.running, [(u.kind, u.id) for u in told.uses]) == (1, [("rollout", rollout.pk)])
    with pytest.raises(Invalid, match="why"):
        withdraw(image, " ", actor=None, now=NOW)
    withdraw(image, "bricks revision A", actor=None, now=NOW)

    rollout = Rollout.objects.get(pk=rollout.pk)
    assert (rollout.state, rollout.reason) == ("halted", "the image was withdrawn")
    assert set(Delivery.objects.of_rollout(rollout.pk).values_list("phase", flat=True)) == {"waiting"}
    with pytest.raises(Conflict, match="bricks revision A"):
        resume(rollout, actor=None, now=NOW)
    with pytest.raises(Conflict, match="withdrawn already"):
        withdraw(image, "again", actor=None, now=NOW)


def test_the_calls_bring_an_image_in() -> None:
    ensure_key(now=NOW)
    make_model()
    adder, other = APIClient(), APIClient()
    person = make_user()
    adder.force_authenticate(person)
    other.force_authenticate(make_user("approver"))
    content = b"firmware by call"
    upload = adder.post("/api/v1/uploads", {"file_name": "f.bin", "size_bytes": len(content)}, format="json").data
    url = f"/api/v1/uploads/{upload['id']}"
    assert adder.put(f"{url}?offset=x", content, content_type="application/octet-stream").status_code == 422
    sent = adder.put(f"{url}?offset=0", content, content_type="application/octet-stream")
    assert (sent.status_code, sent.data["received_bytes"]) == (200, len(content))
    again = adder.put(f"{url}?offset=0", content, content_type="application/octet-stream")
    assert (again.status_code, again.data["received"]) == (409, len(content))

    draft = {"upload": upload["id"], "models": ["Sill 400"], "version": "6.1.0", "expected_minutes": 4}
    image = adder.post("/api/v1/images", draft, format="json").data
    assert (image["status"], image["models"], image["expected_minutes"]) == ("new", ["Sill 400"], 4)
    assert adder.get(url).status_code == 404
    person.role = "approver"  # whose role changed meanwhile still added it
    assert adder.post(f"/api/v1/images/{image['id']}/approve").status_code == 409
    assert other.post(f"/api/v1/images/{image['id']}/approve").data["status"] == "approved"
    assert other.get(f"/api/v1/images/{image['id']}/withdraw/preview").data == {
        "uses": [],
        "running": 0,
        "cut_off": 0,
    }
    gone = other.post(f"/api/v1/images/{image['id']}/withdraw", {"reason": "no"}, format="json")
    assert (gone.data["status"], gone.data["reason"]) == ("withdrawn", "no")


@hypothesis_settings(max_examples=30)
@given(
    st.binary(min_size=1, max_size=60),
    st.lists(st.tuples(st.sampled_from(["next", "again", "ahead", "cut"]), st.integers(1, 20)), max_size=25),
)
def test_whatever_is_cut_repeated_or_out_of_order_the_file_is_what_was_sent(
    content: bytes, acts: list[tuple[str, int]]
) -> None:
    with transaction.atomic():
        upload = uploads.begin_upload("f", len(content), actor=None, now=NOW)
        for act, size in acts:
            at = Upload.objects.get(pk=upload.pk).received_bytes
            if act == "next":
                uploads.append(upload.pk, at, content[at : at + size], now=NOW)
            elif act == "cut" and uploads.path_of(upload).exists():
                with uploads.path_of(upload).open("ab") as file:
                    file.write(b"?" * size)  # a crash between the write and its commit
            elif act in ("again", "ahead") and at:
                with pytest.raises(Conflict):
                    uploads.append(upload.pk, at - 1 if act == "again" else at + 1, b"x", now=NOW)
        at = Upload.objects.get(pk=upload.pk).received_bytes
        done = uploads.append(upload.pk, at, content[at:], now=NOW)
        assert done.received_bytes == len(content)
        assert uploads.path_of(done).read_bytes() == content
        transaction.set_rollback(True)
