"""The demo scenario loads, is the same every time, and has something true to show."""

import json
from pathlib import Path
from typing import Any

import pytest

from herald.deliveries.models import Delivery
from herald.demo.fleet import make_devices
from herald.demo.load import is_loaded, load
from herald.fleet.models import Device
from herald.groups.models import Group, GroupMembership
from herald.images.models import Image
from herald.rollouts.models import Rollout
from herald.rollouts.past_failures import past_failures
from tests.factories import NOW

pytestmark = pytest.mark.django_db


def test_the_demo_loads_and_is_the_same_every_time(settings: Any, tmp_path: Path) -> None:
    settings.DATA_DIR = tmp_path
    from herald.images.signing import ensure_key

    ensure_key(now=NOW)
    assert not is_loaded()
    load(devices=400, now=NOW)
    assert is_loaded()
    assert Device.objects.count() == 400
    again, simulated = make_devices(400, NOW)
    assert [d.uid for d in again] == list(Device.objects.order_by("id").values_list("uid", flat=True))
    manifest = json.loads((tmp_path / "fleet.json").read_text())
    assert [d["uid"] for d in manifest["devices"]] == [s.uid for s in simulated]
    assert Group.objects.count() >= 22
    assert set(GroupMembership.objects.values_list("group_id", flat=True))
    assert set(Rollout.objects.values_list("state", flat=True)) == {"running", "draft", "finished", "halted", "stopped"}
    for image in Image.objects.all():
        assert (Path(settings.IMAGES_DIR) / image.sha256).stat().st_size == image.size_bytes
    assert Image.objects.filter(status="withdrawn").exists()
    drum = Image.objects.get(version="3.0.4")
    (before,) = past_failures(Rollout(failure_limit_pct=2), [drum.pk])
    plays = {d["uid"]: d["firmware"] for d in manifest["devices"]}
    first_and_halted = Delivery.objects.filter(rollout__in=[before.rollout, Rollout.objects.earliest("id").pk])
    for phase, runs_it in (("confirmed", {True}), ("failed", {False})):
        ended = first_and_halted.filter(phase=phase).values_list("device__uid", "image__version")
        assert {plays[uid] == version for uid, version in ended} == runs_it, "the fleet plays what history says"
    assert before.halted and before.failed * 2 > before.tried > 0
