"""The demo scenario loads, is the same every time, and what it shows of its past was done by the engine."""

import json
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from django.db.models import F, Q

from herald.attention.models import Quarantine
from herald.commands.models import Occurrence
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.demo.fleet import make_devices
from herald.demo.load import is_loaded, load
from herald.fleet.models import Device
from herald.fleet.presence import heard_in_time, not_heard_for_long
from herald.groups.models import Group, GroupMembership
from herald.images.models import Image
from herald.images.signing import ensure_key
from herald.rollouts.models import Ring, Rollout, RolloutState
from herald.rollouts.preflight.past_failures import past_failures
from herald_core.deliveries import CLOSED, Phase
from tests.factories import NOW

pytestmark = pytest.mark.django_db


def test_the_demo_loads_the_same_every_time_and_its_past_was_lived(settings: Any, tmp_path: Path) -> None:
    """One load, as it lives through eight weeks, for all that must be true of it."""
    settings.DATA_DIR = tmp_path
    ensure_key(now=NOW)
    assert not is_loaded()
    load(devices=400, now=NOW)
    assert is_loaded()
    manifest = json.loads((tmp_path / "fleet.json").read_text())
    _same_devices(manifest)
    _something_of_everything(settings)
    _devices_run_what_was_confirmed(manifest)
    _events_tell_of_orders_from_end_to_end()
    _nothing_after_the_end()
    _nobody_is_seen_who_is_silent(manifest)
    _an_image_is_known_to_have_failed()
    assert not Quarantine.objects.exists()


def _same_devices(manifest: dict[str, Any]) -> None:
    again, simulated = make_devices(400, NOW)
    assert [d.uid for d in again] == list(Device.objects.order_by("id").values_list("uid", flat=True))
    assert [d["uid"] for d in manifest["devices"]] == [s.uid for s in simulated]


def _something_of_everything(settings: Any) -> None:
    assert Group.objects.count() >= 22
    assert set(GroupMembership.objects.values_list("group_id", flat=True))
    assert set(Rollout.objects.values_list("state", flat=True)) == {"running", "draft", "finished", "halted", "stopped"}
    for image in Image.objects.all():
        assert (Path(settings.IMAGES_DIR) / image.sha256).stat().st_size == image.size_bytes
    assert Image.objects.filter(status="withdrawn").exists()
    days = set(Occurrence.objects.dates("fires_at", "day"))
    assert len(days) >= 4


def _devices_run_what_was_confirmed(manifest: dict[str, Any]) -> None:
    plays = {d["uid"]: d["firmware"] for d in manifest["devices"]}
    assert plays == dict(Device.objects.values_list("uid", "firmware"))
    last: dict[str, str] = {}
    confirmed = Delivery.objects.filter(kind="install", phase=Phase.CONFIRMED.value).order_by("phase_since")
    for uid, version in confirmed.values_list("device__uid", "image__version"):
        last[uid] = version
    assert last
    assert {uid: plays[uid] for uid in last} == last
    failed = Delivery.objects.filter(kind="install", phase=Phase.FAILED.value)
    assert failed.exists()
    assert not failed.filter(device__firmware=F("image__version")).exists()


def _events_tell_of_orders_from_end_to_end() -> None:
    ended = Delivery.objects.filter(phase__in=[p.value for p in CLOSED if p is not Phase.WITHDRAWN])
    told: dict[int, list[DeliveryEvent]] = {}
    for event in DeliveryEvent.objects.filter(delivery__in=ended).order_by("at", "id"):
        told.setdefault(event.delivery_id, []).append(event)
    for delivery in ended.filter(offered_at__isnull=False):
        events = told[delivery.pk]
        assert events[-1].to_phase == delivery.phase
        assert events[-1].at == delivery.phase_since
        assert all(a.to_phase == b.from_phase for a, b in pairwise(events))


def _nothing_after_the_end() -> None:
    for rollout in Rollout.objects.exclude(state=RolloutState.DRAFT):
        end = rollout.halted_at or rollout.ended_at
        if end is not None:
            offers = DeliveryEvent.objects.filter(delivery__rollout=rollout, to_phase=Phase.OFFERED.value)
            assert not offers.filter(at__gt=end).exists()
            rings = Ring.objects.filter(rollout=rollout)
            assert not rings.filter(Q(opened_at__gt=end) | Q(gate_met_at__gt=end)).exists()
    met = Ring.objects.filter(gate_met_at__isnull=False)
    assert met.exists()
    assert not met.filter(Q(opened_at=None) | Q(gate_met_at__lt=F("opened_at"))).exists()


def _nobody_is_seen_who_is_silent(manifest: dict[str, Any]) -> None:
    silent = {d["uid"] for d in manifest["devices"] if d["silent"]}
    assert set(Device.objects.filter(not_heard_for_long(NOW)).values_list("uid", flat=True)) == silent
    assert Device.objects.filter(heard_in_time(NOW), last_check_in__lte=NOW).count() == 400 - len(silent)


def _an_image_is_known_to_have_failed() -> None:
    drum = Image.objects.get(version="3.0.4")
    (before,) = past_failures(Rollout(failure_limit_pct=2), [drum.pk])
    assert before.halted
    assert 0 < before.failed <= before.tried, "how many of them fail is drawn with the ids of the devices"
