"""Deliveries of several steps, change tables, and putting a rollout back."""

from datetime import timedelta

import pytest
from django.db import IntegrityError, transaction

from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.fleet.models import Device
from herald.http.errors import Conflict, Invalid, NobodyThere
from herald.images.models import Image
from herald.images.services import withdraw
from herald.rollouts.compose import drafts
from herald.rollouts.compose.drafts import ChangeDraft
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle, rollback
from herald.rollouts.launch import launching
from herald.rollouts.models import ExcludedDevice, Rollout
from herald.rollouts.watch import overview
from herald.rollouts.watch.sentence import rollout_sentence
from herald.rollouts.watch.steps import progress
from herald_core.changes import Choice
from herald_core.deliveries import Event
from herald_core.preflight import Outcome
from herald_core.rings.assignment import RingKind
from herald_core.versions import version_key
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_image,
    make_model,
    make_static,
    ring,
)

pytestmark = pytest.mark.django_db
HOUR = timedelta(hours=1)


def run(firmware: str, device: Device) -> None:
    Device.objects.filter(pk=device.pk).update(firmware=firmware, firmware_key=version_key(firmware))


def install(delivery: Delivery, now: object = NOW) -> None:
    """The device carries out what it was offered and runs it."""
    report = deliveries.evaluate_report(delivery, None, firmware=None, healthy=True, now=now)  # type: ignore[arg-type]
    assert report.steps == []
    one = Delivery.objects.filter(pk=delivery.pk)
    deliveries.move(one, Event.INSTALL, now=NOW, cause="reported installing")
    with transaction.atomic():
        found = one.select_related("image").get()
        assert found.image is not None
        change = deliveries.evaluate_report(found, None, firmware=found.image.version, healthy=True, now=NOW)
        deliveries.apply_changes([change], now=NOW)
    run(found.image.version, found.device)


def of(rollout: Rollout) -> list[tuple[int, str, str]]:
    found = Delivery.objects.filter(rollout=rollout).order_by("device_id", "hop")
    return [(d.hop, str(d.image.version if d.image else ""), d.phase) for d in found.select_related("image")]


def line() -> tuple[Image, Image]:
    """A stepping stone, and the version that asks for it."""
    stone = make_image("5.0.1", b"stone", min_version="4.8.0", expected_minutes=14)
    return stone, make_image("5.2.1", b"target", min_version="5.0.0")


def test_an_old_device_gets_one_step_after_the_other_and_counts_once() -> None:
    _, target = line()
    old, new = make_device(firmware="4.9.2"), make_device(firmware="5.1.0")
    rollout = launched(make_draft(make_static("G", [old, new]), target))
    assert of(rollout) == [(1, "5.0.1", "waiting"), (1, "5.2.1", "waiting")]
    tick_rollouts(now=NOW)
    install(Delivery.objects.get(device=old))
    assert of(rollout)[:2] == [(1, "5.0.1", "confirmed"), (2, "5.2.1", "waiting")]
    second = Delivery.objects.get(device=old, is_current_step=True)
    assert (second.hop, second.hops, second.from_version, second.remaining_image_ids) == (2, 2, "5.0.1", [])
    shown = overview.rows([rollout], NOW)[0]
    assert (shown["total"], shown["phases"]) == (2, {"offered": 1, "waiting": 1})
    tick_rollouts(now=NOW)
    install(Delivery.objects.get(device=old, is_current_step=True))
    install(Delivery.objects.get(device=new))
    tick_rollouts(now=NOW)
    rollout.refresh_from_db()
    assert (rollout.state, overview.rows([rollout], NOW)[0]["phases"]) == ("finished", {"confirmed": 2})
    assert [p["confirmed"] for p in progress(rollout)][-1] == 2


def test_a_failed_first_step_fails_the_device_and_nothing_follows() -> None:
    _, target = line()
    old = make_device(firmware="4.9.2")
    rollout = launched(make_draft(make_static("G", [old]), target, max_attempts=1))
    tick_rollouts(now=NOW)
    deliveries.move(Delivery.objects.filter(device=old), Event.FAIL, now=NOW, cause="flash-verify")
    tick_rollouts(now=NOW + HOUR)
    assert of(rollout) == [(1, "5.0.1", "failed")]


def test_whoever_arrives_by_other_ways_needs_no_steps() -> None:
    _, target = line()
    skipped, halfway = make_device(firmware="4.9.2"), make_device(firmware="4.8.0")
    rollout = launched(make_draft(make_static("G", [skipped, halfway]), target, max_concurrent=1))
    run("5.2.1", skipped)
    run("5.0.1", halfway)
    tick_rollouts(now=NOW)
    assert of(rollout) == [(1, "5.2.1", "confirmed"), (1, "5.0.1", "confirmed"), (2, "5.2.1", "offered")]


def test_the_database_keeps_steps_whole() -> None:
    _, target = line()
    rollout = launched(make_draft(make_static("G", [make_device(firmware="4.9.2")]), target))
    for wrong in ({"is_current_step": False}, {"phase": "confirmed"}, {"hop": 3}, {"target": None}):
        with pytest.raises(IntegrityError), transaction.atomic():
            Delivery.objects.filter(rollout=rollout).update(**wrong)


def test_withdrawing_a_stone_halts_who_must_pass_it() -> None:
    stone, target = line()
    rollout = launched(make_draft(make_static("G", [make_device(firmware="4.9.2")]), target))
    withdraw(stone, "bad", actor=None, now=NOW)
    rollout.refresh_from_db()
    assert rollout.state == "halted"
    with pytest.raises(Conflict, match=r"5\.0\.1 was withdrawn"):
        lifecycle.resume(rollout, actor=None, now=NOW)


def test_a_ring_is_looked_at_again_when_it_opens() -> None:
    _, target = line()
    first, full, moved = make_device(), make_device(firmware="5.1.0"), make_device(firmware="4.9.2")
    Image.objects.filter(pk=target.pk).update(free_space_mb=30)
    rings = [ring("First", RingKind.GROUP, group=make_static("F", [first])), ring("Rest")]
    rollout = launched(make_draft(make_static("G", [first, full, moved]), target, rings=rings))
    Device.objects.filter(pk=full.pk).update(facts={"free_space_mb": 3})
    run("5.1.0", moved)
    run("5.2.1", first)
    tick_rollouts(now=NOW)
    left = Delivery.objects.get(device=full)
    assert left.phase == "withdrawn"
    assert "too little free space" in DeliveryEvent.objects.get(delivery=left).cause
    way = Delivery.objects.get(device=moved)
    assert (way.image_id, way.hops, way.remaining_image_ids) == (target.pk, 1, [])
    tick_rollouts(now=NOW)
    assert overview.rows([rollout], NOW)[0]["total"] == 3


def test_a_model_without_a_target_keeps_the_launch_shut_until_it_is_left_out() -> None:
    other = make_model("Rill V2", "Rill")
    group = make_static("G", [make_device(), make_device(model=other)])
    draft = make_draft(group)
    assert drafts.preflight(draft, now=NOW).outcomes[Outcome.NO_TARGET] == 1
    with pytest.raises(Conflict, match="1 devices of the audience have no target"):
        launching.request_launch(draft, expected=1, actor=None, now=NOW)
    image = draft.changes.get().image
    changes = [*drafts.to(image), ChangeDraft(choice=Choice.LEAVE_OUT, model=other)]  # type: ignore[arg-type]
    whole = drafts.RolloutDraft(changes=changes, include=[group], rings=[ring()])
    drafts.save_draft(whole, actor=None, now=NOW, rollout=draft)
    launched(draft)
    assert ExcludedDevice.objects.get().outcome == "row_left_out"


def test_each_model_and_uplink_gets_its_own_version() -> None:
    rill = make_model("Rill V2", "Rill")
    make_image("2.8.0", b"r8", models=[rill], family="Rill")
    make_image("2.7.3", b"r7", models=[rill], family="Rill")
    sill = make_image("5.2.1")
    by_air = make_device(model=rill, firmware="2.6.0", facts={"uplink": "satellite"})
    by_wire = make_device(model=rill, firmware="2.6.0", facts={"uplink": "ethernet"})
    gateway = make_device(firmware="5.1.0")
    changes = [
        ChangeDraft(choice=Choice.IMAGE, image=sill),
        ChangeDraft(choice=Choice.NEWEST, model=rill),
        ChangeDraft(choice=Choice.WITHIN, model=rill, uplink="satellite", within="2.7"),
    ]
    rollout = launched(make_draft(make_static("G", [by_air, by_wire, gateway]), sill, changes=changes))
    assert [v for _, v, _ in of(rollout)] == ["2.7.3", "2.8.0", "5.2.1"]
    assert "Put 3 versions on G" in rollout_sentence(rollout)


@pytest.mark.parametrize(
    ("change", "where"),
    [
        ({"choice": Choice.IMAGE}, "/changes/0/image_id"),
        ({"choice": Choice.WITHIN}, "/changes/0/within"),
        ({"choice": Choice.NEWEST, "within": "5"}, "/changes/0/within"),
        ({"choice": Choice.NEWEST, "from_version": "a b"}, "/changes/0/from_version"),
    ],
)
def test_a_row_says_what_and_nothing_else(change: dict[str, object], where: str) -> None:
    draft = drafts.RolloutDraft(changes=[ChangeDraft(**change)], include=[], rings=[ring()])  # type: ignore[arg-type]
    with pytest.raises(Invalid) as caught:
        drafts.save_draft(draft, actor=None, now=NOW)
    assert caught.value.extra["errors"][0]["pointer"] == where


def test_taken_out_by_hand_with_a_reason_and_back_in() -> None:
    devices = make_devices(3)
    draft = make_draft(make_static("G", devices))
    with pytest.raises(Invalid, match="Say why"):
        drafts.exclude_devices(draft, [devices[0].pk], " ", actor=None, now=NOW)
    assert drafts.exclude_devices(draft, [d.pk for d in devices[:2]], "on the bench", actor=None, now=NOW) == 2
    assert drafts.preflight(draft, now=NOW).outcomes == {Outcome.TAKEN_OUT: 2, Outcome.STRAIGHT: 1}
    assert drafts.undo_exclusions(draft, [devices[1].pk], actor=None, now=NOW) == 1
    launched(draft)
    assert ExcludedDevice.objects.get().reason == "on the bench"


def test_putting_back_gives_each_device_what_it_had() -> None:
    _, target = line()
    make_image("5.1.0", b"a", min_version="5.0.0")
    make_image("4.9.2", b"b")
    before = ["5.1.0", "4.9.2", "5.2.1", "5.1.0"]
    devices = [make_device(firmware=v) for v in before]
    rollout = launched(make_draft(make_static("G", devices), target))
    with pytest.raises(NobodyThere):
        rollback.roll_back(make_and_launch_nobody(target), actor=None, now=NOW)
    for _ in range(2):
        tick_rollouts(now=NOW)
        for offered in Delivery.objects.filter(phase="offered", rollout=rollout).exclude(device=devices[3]):
            install(offered)
    draft = rollback.roll_back(rollout, actor=None, now=NOW)
    assert rollback.roll_back(rollout, actor=None, now=NOW).pk == draft.pk
    assert "Roll back to the version each had on the devices that rollout" in rollout_sentence(draft)
    found = drafts.preflight(draft, now=NOW)
    assert {d.id: (d.outcome.value, [s.version for s in d.steps]) for d in found.devices} == {
        devices[0].pk: ("straight", ["5.1.0"]),
        devices[1].pk: ("straight", ["4.9.2"]),
        devices[2].pk: ("already", ["5.2.1"]),
    }
    launched(draft)
    assert draft.rings.count() == 2
    assert overview.rows([draft], NOW)[0]["phases"] == {"waiting": 2, "confirmed": 1}


def make_and_launch_nobody(image: Image) -> Rollout:
    """A rollout that has changed nobody yet."""
    return launched(make_draft(make_static("N", make_devices(1)), image))


def test_a_newer_target_supersedes_and_an_older_one_is_not_sent() -> None:
    devices = make_devices(2)
    older, newer = make_image("5.2.0", b"o"), make_image("5.3.0", b"n")
    first = launched(make_draft(make_static("A", devices), older, max_concurrent=1))
    tick_rollouts(now=NOW)
    deliveries.move(Delivery.objects.filter(phase="offered"), Event.INSTALL, now=NOW, cause="reported installing")
    second = launched(make_draft(make_static("B", devices), newer))
    assert sorted(p for _, _, p in of(first)) == ["installing", "superseded"]
    third = make_draft(make_static("C", devices), older)
    assert drafts.preflight(third, now=NOW).outcomes == {Outcome.NEWER_COMING: 2}
    assert overview.rows([second], NOW)[0]["phases"] == {"waiting": 2}
