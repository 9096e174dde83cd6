"""The upgrade graph of a model as the Library draws it."""

from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.images.models import Image
from herald.images.services import preview_withdrawal, withdraw
from herald.time import clock
from tests.factories import NOW, make_device, make_devices, make_image, make_model, make_user

pytestmark = pytest.mark.django_db


def paths() -> dict[str, Any]:
    client = APIClient()
    client.force_authenticate(make_user("viewer"))
    with clock.fixed(NOW):
        answer = client.get(f"/api/v1/models/{make_model().pk}/upgrades")
    assert answer.status_code == 200
    return dict(answer.json())


def ladder() -> Image:
    """A stepping stone between the old and the new line."""
    make_image("4.8.0", b"a")
    stone = make_image("5.0.1", b"b", min_version="4.8.0")
    make_image("5.2.1", b"c", min_version="5.0.0")
    make_devices(3, firmware="4.8.0")
    make_devices(2, firmware="5.0.1")
    make_device(firmware="4.0")
    make_device(firmware="4.8.0", admission="retired")
    make_device(firmware=None)
    return stone


def test_steps_say_how_many_would_take_them() -> None:
    ladder()
    found = paths()
    assert found["newest"] == "5.2.1"
    assert [(v["version"], v["runs"], v["status"]) for v in found["versions"]] == [
        ("4.0", 1, ""),
        ("4.8.0", 3, "approved"),
        ("5.0.1", 2, "approved"),
        ("5.2.1", 0, "approved"),
    ]
    assert [(s["from_version"], s["to_version"], s["devices"]) for s in found["steps"]] == [
        ("4.0", "4.8.0", 1),
        ("4.8.0", "5.0.1", 4),
        ("5.0.1", "5.2.1", 6),
    ]
    assert {v["version"]: v["cuts_off"] for v in found["versions"] if v["cuts_off"]} == {"4.8.0": 1, "5.0.1": 4}


def test_withdrawing_the_stone_strands_who_is_before_it() -> None:
    stone = ladder()
    assert preview_withdrawal(stone, now=NOW).cut_off == 4
    withdraw(stone, "bad", actor=None, now=NOW)
    found = paths()
    assert {v["version"]: v["stranded"] for v in found["versions"] if v["stranded"]} == {"4.0": 1, "4.8.0": 3}
    assert [(s["from_version"], s["devices"]) for s in found["steps"]] == [("5.0.1", 2)]


def test_revisions_go_their_own_ways() -> None:
    make_image("5.1.0", b"a")
    make_image("6.0.0", b"b", hardware_revisions=["C"])
    make_device(firmware="5.1.0", hardware_revision="B")
    make_device(firmware="5.1.0", hardware_revision="C")
    found = paths()
    assert [(s["from_version"], s["to_version"], s["devices"]) for s in found["steps"]] == [("5.1.0", "6.0.0", 1)]
    assert all(v["stranded"] == 0 for v in found["versions"])


def test_a_model_without_images_has_no_way_and_says_so() -> None:
    make_device(firmware="5.1.0")
    found = paths()
    assert (found["newest"], found["steps"]) == ("", [])
    assert [(v["version"], v["stranded"]) for v in found["versions"]] == [("5.1.0", 1)]
