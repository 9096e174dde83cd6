"""Images: stored by their hash, signed on approval, one of a version for a model."""

import hashlib
import json
from pathlib import Path
from typing import Any

import jwt
import pytest
from django.db import IntegrityError, transaction

from herald.images.models import Image, SigningKey
from herald.images.services import add_image, approve
from herald.images.signing import ensure_key
from herald.record.models import RecordEntry
from tests.factories import NOW, make_image, make_model

pytestmark = pytest.mark.django_db


def test_a_file_is_kept_under_its_hash_whole_or_not_at_all(settings: Any) -> None:
    image = make_image(content=b"some bytes")
    path = Path(settings.IMAGES_DIR) / image.sha256
    assert image.sha256 == hashlib.sha256(b"some bytes").hexdigest()
    assert (path.read_bytes(), image.size_bytes) == (b"some bytes", 10)
    assert list(Path(settings.IMAGES_DIR).glob("*.part")) == []


def test_the_key_is_made_once_and_only_for_its_owner(settings: Any) -> None:
    kid = ensure_key(now=NOW)
    assert ensure_key(now=NOW) == kid
    assert SigningKey.objects.count() == 1
    assert Path(settings.SIGNING_KEY_FILE).stat().st_mode & 0o077 == 0
    assert "d" not in SigningKey.objects.get().public_jwk  # the private half stays in its file


def test_the_signature_is_over_what_the_image_is_and_for_whom() -> None:
    image = make_image()
    key = jwt.PyJWK(SigningKey.objects.get().public_jwk).key
    payload = json.loads(jwt.api_jws.decode(image.signature, key, algorithms=["EdDSA"]))
    whom = {"models": ["Sill 400"], "hardware_revisions": []}
    assert payload == {"version": "5.2.1", "size": image.size_bytes, "sha256": image.sha256, **whom}
    assert jwt.get_unverified_header(image.signature)["kid"] == SigningKey.objects.get().kid


def test_two_images_of_one_version_for_one_model_are_refused() -> None:
    make_image("5.2.1")
    with pytest.raises(IntegrityError, match="image_once_per_model_and_version"), transaction.atomic():
        add_image(content=b"other", models=[make_model()], family="Sill", version="v5.2.1.0")
    other = make_model("Rill V3", "Rill")
    add_image(content=b"other", models=[other], family="Rill", version="5.2.1")
    assert Image.objects.count() == 2


def test_nothing_is_approved_without_a_signature() -> None:
    image = make_image()
    with pytest.raises(IntegrityError, match="image_approved_is_signed"), transaction.atomic():
        Image.objects.filter(pk=image.pk).update(signature="")
    with pytest.raises(IntegrityError, match="image_hash_is_sha256"), transaction.atomic():
        Image.objects.filter(pk=image.pk).update(sha256="abc")


def test_a_version_that_is_none_is_refused() -> None:
    with pytest.raises(ValueError, match="not a version"):
        add_image(content=b"x", models=[make_model()], family="Sill", version="five two")
    assert Image.objects.count() == 0


def test_approval_is_on_record() -> None:
    ensure_key(now=NOW)
    image = approve(add_image(content=b"x", models=[make_model()], family="Sill", version="6.0"), actor=None, now=NOW)
    assert image.status == "approved"
    assert RecordEntry.objects.get(kind="image", object_id=image.pk).sentence == "Approved Sill 6.0"
