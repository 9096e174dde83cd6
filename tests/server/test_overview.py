"""A rollout as it is watched: the sums always agree with the audience."""

import contextlib
from datetime import timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.rollouts.compose import drafts
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.models import ExcludedDevice, Rollout
from herald.rollouts.watch import overview
from herald.rollouts.watch.steps import progress
from herald_core.deliveries import Event
from herald_core.rings.assignment import RingKind
from tests.factories import NOW, launched, make_device, make_devices, make_draft, make_image, make_static, ring

pytestmark = pytest.mark.django_db
MINUTE = timedelta(minutes=1)
RINGS = [
    ring("Canary", RingKind.NUMBER, number=2),
    ring("Half", RingKind.SHARE, share_pct=50, confirmed_pct=50),
    ring("Rest"),
]


def shown(rollout: Rollout) -> dict[str, object]:
    return overview.rows([Rollout.objects.listed().get(pk=rollout.pk)], NOW)[0]


def check_sums(rollout: Rollout, audience: int) -> None:
    row = overview.detail(Rollout.objects.listed().get(pk=rollout.pk), NOW)
    assert sum(row["phases"].values()) == row["total"]
    assert sum(r["size"] for r in row["rings"]) == row["total"]
    assert row["total"] + row["left_out"] == audience
    for one in row["rings"]:
        assert sum(one["phases"].values()) == one["size"]


@settings(max_examples=12)
@given(st.lists(st.sampled_from(["turn", "confirm", "fail", "pause", "resume", "expire", "stop"]), max_size=14))
def test_the_sums_agree_whatever_happens(acts: list[str]) -> None:
    from django.db import transaction

    with transaction.atomic():
        devices = [*make_devices(9), make_device(firmware="9.0"), make_device(firmware="5.2.1")]
        rollout = launched(
            make_draft(make_static("G", devices), rings=RINGS, max_concurrent=4, max_attempts=1, failure_limit_pct=60)
        )
        now = NOW
        for act in acts:
            now += 5 * MINUTE
            offered = Delivery.objects.filter(phase="offered").order_by("id")[:1]
            some = Delivery.objects.filter(pk__in=[d.pk for d in offered])
            if act == "turn":
                tick_rollouts(now=now)
            elif act == "confirm":
                deliveries.move(some, Event.RETURN, now=now, cause="back")
                deliveries.move(some.model.objects.filter(phase="confirming"), Event.CONFIRM, now=now, cause="good")
            elif act == "fail":
                deliveries.move(some, Event.FAIL, now=now, cause="bad", last_error="bad")
            elif act == "expire":
                deliveries.expire(now=now)
            else:
                verb = {"pause": lifecycle.pause, "resume": lifecycle.resume, "stop": lifecycle.stop}[act]
                with contextlib.suppress(lifecycle.Conflict):
                    verb(rollout, actor=None, now=now)
            check_sums(rollout, 11)
        assert ExcludedDevice.objects.filter(rollout=rollout).count() == 1
        transaction.set_rollback(True)


def test_progress_counts_those_already_there_and_each_that_confirms() -> None:
    devices = [*make_devices(3), make_device(firmware="5.2.1")]
    rollout = launched(make_draft(make_static("G", devices)))
    assert [p["confirmed"] for p in progress(rollout)] == [1]
    tick_rollouts(now=NOW)
    for minute, delivery in enumerate(Delivery.objects.filter(phase="offered"), 1):
        one = Delivery.objects.filter(pk=delivery.pk)
        deliveries.move(one, Event.RETURN, now=NOW + minute * MINUTE, cause="back")
        deliveries.move(one, Event.CONFIRM, now=NOW + minute * MINUTE, cause="good")
    points = progress(rollout)
    assert [p["confirmed"] for p in points] == [1, 2, 3, 4, 4]
    assert points[1]["at"] == NOW + MINUTE


def test_a_draft_has_no_progress_and_no_sums() -> None:
    rollout = make_draft(make_static("G", make_devices(2)))
    assert progress(rollout) == []
    assert shown(rollout)["total"] == 0


def test_large_rings_have_no_marks(monkeypatch: pytest.MonkeyPatch) -> None:
    rollout = launched(make_draft(make_static("G", make_devices(6)), rings=RINGS))
    assert [len(m["marks"]) for m in overview.marks(rollout)] == [2, 2, 2]
    monkeypatch.setattr(overview, "MARKS_PER_RING", 1)
    assert overview.marks(rollout) == []


def test_preflight_shows_how_a_drawn_ring_looks_beside_all() -> None:
    make_devices(8)
    Device.objects.update(facts={"uplink": "cellular"})
    rollout = make_draft(make_static("G", list(Device.objects.all())), rings=RINGS)
    view = overview.preflight_view(rollout, drafts.preflight(rollout, now=NOW))
    assert [r["devices"] for r in view["rings"]] == [2, 3, 3]
    assert {s["field"] for s in view["rings"][0]["shares"]} == {"model", "uplink", "site", "from version"}
    assert view["rings"][2]["shares"] == []
    assert view["devices_for_95"] == 149
    assert 0 < view["rings"][0]["detects"] < view["rings"][1]["detects"] < 1


def test_devices_that_no_ring_takes_are_counted_and_left_out() -> None:
    rollout = make_draft(make_static("G", make_devices(5)), rings=[ring("Some", RingKind.NUMBER, number=2)])
    found = drafts.preflight(rollout, now=NOW)
    assert (found.reached, found.in_no_ring) == (2, 3)
    launched(rollout)
    assert ExcludedDevice.objects.filter(rollout=rollout).count() == 3
    check_sums(rollout, 5)


def test_errors_are_counted_by_word() -> None:
    rollout = launched(make_draft(make_static("G", make_devices(3)), make_image()))
    Delivery.objects.filter(rollout=rollout).update(last_error="bad-hash")
    row = overview.detail(Rollout.objects.listed().get(pk=rollout.pk), NOW)
    assert row["errors"] == [{"error": "bad-hash", "count": 3}]
