"""Rollouts: launching, the clock's turns, stepping in."""

from datetime import UTC, datetime, time, timedelta

import pytest
from django.db import IntegrityError, transaction
from django.db.models.expressions import RawSQL

from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.fleet.models import Device
from herald.http.errors import Conflict, CountMismatch, Invalid, NobodyThere
from herald.record.models import RecordEntry
from herald.rollouts.compose import drafts
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.launch import launching
from herald.rollouts.models import ExcludedDevice, Rollout
from herald.rollouts.watch import overview
from herald.rollouts.watch.sentence import rollout_sentence
from herald_core.deliveries import Event, Phase
from herald_core.preflight import Outcome
from herald_core.rings.assignment import RingKind
from herald_core.versions import version_key
from tests.factories import (
    NOW,
    client_as,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_image,
    make_site,
    make_static,
    ring,
)

pytestmark = pytest.mark.django_db
MINUTE = timedelta(minutes=1)


def phases(rollout: Rollout) -> dict[str, int]:
    found: dict[str, int] = {}
    for phase in Delivery.objects.of_rollout(rollout.pk).values_list("phase", flat=True):
        found[phase] = found.get(phase, 0) + 1
    return found


def finish(rollout: Rollout, *, phase: Phase, now: datetime, most: int = 1000) -> None:
    """Devices with an offer end their order in `phase`, by the table."""
    for delivery in Delivery.objects.of_rollout(rollout.pk).filter(phase="offered")[:most]:
        one = Delivery.objects.filter(pk=delivery.pk)
        if phase is Phase.FAILED:
            deliveries.move(one, Event.FAIL, now=now, cause="flash-verify", last_error="flash-verify")
        else:
            deliveries.move(one, Event.RETURN, now=now, cause="back")
            deliveries.move(one, Event.CONFIRM, now=now, cause="good")
            Device.objects.filter(pk=delivery.device_id).update(firmware="5.2.1", firmware_key=version_key("5.2.1"))


def test_an_empty_audience_is_nobody() -> None:
    rollout = make_draft(make_static("Empty", []))
    with pytest.raises(NobodyThere, match="audience is empty"):
        launching.request_launch(rollout, expected=0, actor=None, now=NOW)
    other = make_static("Same", make_devices(2))
    rollout = make_draft(other, rollout.changes.get().image, exclude=[other])
    with pytest.raises(NobodyThere):
        launching.request_launch(rollout, expected=0, actor=None, now=NOW)
    assert Delivery.objects.count() == 0


def test_launch_wants_the_number_of_devices() -> None:
    rollout = make_draft(make_static("G", make_devices(3)))
    with pytest.raises(CountMismatch, match="reach 3 devices, and 30 was typed") as caught:
        launching.request_launch(rollout, expected=30, actor=None, now=NOW)
    assert caught.value.extra["reached"] == 3
    assert Rollout.objects.get().state == "draft"


def test_of_a_large_fleet_the_number_may_be_out_by_a_hundredth() -> None:
    rollout = make_draft(make_static("G", make_devices(200)))
    for typed in (197, 203):
        with pytest.raises(CountMismatch):
            launching.request_launch(rollout, expected=typed, actor=None, now=NOW)
    assert launching.request_launch(rollout, expected=202, actor=None, now=NOW).reached == 200
    assert Rollout.objects.get().state == "launching"


def test_an_image_that_is_not_approved_is_not_sent() -> None:
    image = make_image()
    rollout = make_draft(make_static("G", make_devices(1)), image)
    image.status = "withdrawn"
    image.save()
    with pytest.raises(Conflict, match="withdrawn"):
        launching.request_launch(rollout, expected=1, actor=None, now=NOW)


def test_the_audience_adds_up() -> None:
    devices = [
        make_device(firmware="5.1.0"),
        make_device(firmware="5.2.1"),
        make_device(firmware="4.0"),
        make_device(firmware="6.0"),
        make_device(firmware=None),
        make_device(admission="waiting"),
        make_device(hardware_revision="A"),
        make_device(facts={"free_space_mb": 3}),
        make_device(facts={"battery": 5, "power": "solar"}),
        make_device(last_check_in=NOW - timedelta(days=3)),
    ]
    image = make_image(min_version="5.0", hardware_revisions=["B"], free_space_mb=30, min_battery_pct=20)
    odd = make_device(facts={"free_space_mb": "3"})  # a text is no number
    huge = make_device()
    Device.objects.filter(pk=huge.pk).update(
        facts=RawSQL("""'{"free_space_mb": 1e400, "battery": 1e400}'::jsonb""", ())
    )
    rollout = make_draft(make_static("G", [*devices, odd, huge]), image)
    found = drafts.preflight(rollout, now=NOW)
    told = {Outcome.NO_SPACE: "needs 30 MB, has 3", Outcome.LOW_POWER: "needs 20%, has 5"}
    assert found.outcomes == {
        Outcome.STRAIGHT: 3,
        Outcome.LATE: 1,
        Outcome.ALREADY: 1,
        Outcome.NO_PATH: 1,
        Outcome.DOWNGRADE: 1,
        Outcome.NO_VERSION: 1,
        Outcome.NOT_ADMITTED: 1,
        Outcome.WRONG_HARDWARE: 1,
        Outcome.NO_SPACE: 1,
        Outcome.LOW_POWER: 1,
    }
    assert found.reached == 4
    assert (found.amounts(Outcome.NO_SPACE), found.amounts(Outcome.STRAIGHT)) == (told[Outcome.NO_SPACE], "")
    for outcome, amounts in told.items():
        asked = client_as("viewer").get(f"/api/v1/rollouts/{rollout.pk}/preflight/devices", {"outcome": outcome.value})
        assert [d["amounts"] for d in asked.json()] == [amounts]
    launched(rollout)
    assert phases(rollout) == {"waiting": 4, "confirmed": 1}
    assert ExcludedDevice.objects.filter(rollout=rollout).count() == 7


def test_a_silent_device_is_not_drawn_for_a_canary() -> None:
    devices = [*make_devices(3), *make_devices(9, last_check_in=NOW - timedelta(days=3))]
    rings = [ring("Canary", RingKind.NUMBER, number=3), ring("Rest")]
    rollout = launched(make_draft(make_static("G", devices), rings=rings))
    canary = set(Delivery.objects.filter(rollout=rollout, ring__position=1).values_list("device_id", flat=True))
    assert canary == {d.pk for d in devices[:3]}


def test_launching_twice_writes_nothing_twice() -> None:
    rollout = launched(make_draft(make_static("G", make_devices(3))))
    assert launching.launch(rollout, now=NOW) is None
    assert Delivery.objects.count() == 3
    with pytest.raises(Conflict, match="cannot be launched"):
        launching.request_launch(rollout, expected=3, actor=None, now=NOW)


def test_a_launch_that_finds_nobody_any_more_goes_back_to_draft() -> None:
    group = make_static("G", make_devices(1))
    rollout = make_draft(group)
    launching.request_launch(rollout, expected=1, actor=None, now=NOW)
    Device.objects.update(admission="retired")
    assert launching.launch(rollout, now=NOW) is None
    rollout.refresh_from_db()
    assert (rollout.state, Delivery.objects.count()) == ("draft", 0)
    assert "none would take part" in rollout.reason


@pytest.mark.parametrize(("follows", "state"), [(False, "finished"), (True, "running")])
def test_rings_that_nobody_is_in_keep_no_rollout_from_its_end(follows: bool, state: str) -> None:
    rings = [ring("Canary", RingKind.NUMBER, number=12, soak_minutes=60), ring("Half", RingKind.SHARE, share_pct=50)]
    group = make_static("G", make_devices(3))
    rollout = launched(make_draft(group, rings=[*rings, ring("Rest")], follows_audience=follows))
    tick_rollouts(now=NOW)
    finish(rollout, phase=Phase.CONFIRMED, now=NOW + MINUTE)
    tick_rollouts(now=NOW + 2 * MINUTE)
    rollout.refresh_from_db()
    assert (rollout.state, phases(rollout)) == (state, {"confirmed": 3}), "only who follows an audience awaits anybody"


def test_ring_after_ring_to_the_end() -> None:
    rings = [
        ring("Canary", RingKind.NUMBER, number=2, soak_minutes=60),
        ring("Half", RingKind.SHARE, share_pct=50),
        ring("Rest"),
    ]
    rollout = launched(make_draft(make_static("G", make_devices(10)), rings=rings))
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"offered": 2, "waiting": 8}
    finish(rollout, phase=Phase.CONFIRMED, now=NOW + MINUTE)
    tick_rollouts(now=NOW + MINUTE)
    assert phases(rollout)["waiting"] == 8  # soaking
    tick_rollouts(now=NOW + 62 * MINUTE)
    assert phases(rollout) == {"confirmed": 2, "offered": 4, "waiting": 4}
    finish(rollout, phase=Phase.CONFIRMED, now=NOW + 63 * MINUTE)
    tick_rollouts(now=NOW + 64 * MINUTE)
    finish(rollout, phase=Phase.CONFIRMED, now=NOW + 65 * MINUTE)
    tick_rollouts(now=NOW + 66 * MINUTE)
    rollout.refresh_from_db()
    assert (rollout.state, phases(rollout)) == ("finished", {"confirmed": 10})
    sentences = list(RecordEntry.objects.values_list("sentence", flat=True))
    assert "Ring 2, Half, opened" in sentences
    assert "Finished: 10 confirmed" in sentences


def test_a_turn_can_be_repeated() -> None:
    rollout = launched(make_draft(make_static("G", make_devices(4)), max_concurrent=3))
    for _ in range(3):
        tick_rollouts(now=NOW)
    assert phases(rollout) == {"offered": 3, "waiting": 1}
    assert DeliveryEvent.objects.count() == 3


def test_it_halts_on_evidence_and_takes_offers_back() -> None:
    rollout = launched(make_draft(make_static("G", make_devices(10)), max_concurrent=6, max_attempts=1))
    tick_rollouts(now=NOW)
    finish(rollout, phase=Phase.FAILED, now=NOW, most=3)
    tick_rollouts(now=NOW + MINUTE)
    rollout.refresh_from_db()
    assert rollout.state == "halted"
    assert "3 of 3 tried failed" in rollout.reason
    assert phases(rollout) == {"failed": 3, "waiting": 7}
    lifecycle.resume(rollout, actor=None, now=NOW + MINUTE)
    tick_rollouts(now=NOW + 2 * MINUTE)
    rollout.refresh_from_db()
    assert rollout.state == "running"  # who resumed took the three upon them
    finish(rollout, phase=Phase.FAILED, now=NOW, most=1)
    tick_rollouts(now=NOW + 3 * MINUTE)
    rollout.refresh_from_db()
    assert rollout.state == "halted"


def test_one_unlucky_device_does_not_halt() -> None:
    rollout = launched(make_draft(make_static("G", make_devices(5)), max_attempts=1))
    tick_rollouts(now=NOW)
    finish(rollout, phase=Phase.FAILED, now=NOW, most=1)
    tick_rollouts(now=NOW)
    rollout.refresh_from_db()
    assert rollout.state == "running"


def test_windows_are_by_each_devices_clock_and_leave_time_for_the_install() -> None:
    here = make_devices(2)
    there = make_devices(2, site=make_site("There", "Asia/Kolkata"))  # 07:30 there
    window = {"window_start": time(1), "window_end": time(2, 30)}
    rollout = launched(make_draft(make_static("G", here + there), **window))
    tick_rollouts(now=NOW)
    offered = set(Delivery.objects.filter(phase="offered").values_list("device_id", flat=True))
    assert offered == {d.pk for d in here}
    until = Delivery.objects.filter(phase="offered").values_list("offer_until", flat=True)[0]
    assert until == datetime(2026, 11, 23, 2, 20, tzinfo=UTC)  # ten minutes are needed
    deliveries.recall_lapsed(now=until)
    assert phases(rollout) == {"waiting": 4}
    tick_rollouts(now=until)
    assert phases(rollout) == {"waiting": 4}


def test_pause_says_who_will_finish_and_resume_goes_on() -> None:
    rollout = launched(make_draft(make_static("G", make_devices(5)), max_concurrent=3))
    tick_rollouts(now=NOW)
    one = Delivery.objects.filter(phase="offered").first()
    assert one is not None
    deliveries.move(Delivery.objects.filter(pk=one.pk), Event.INSTALL, now=NOW, cause="reported installing")
    assert lifecycle.pause(rollout, actor=None, now=NOW) == 1
    tick_rollouts(now=NOW + MINUTE)
    assert phases(rollout) == {"installing": 1, "waiting": 4}
    lifecycle.resume(rollout, actor=None, now=NOW)
    tick_rollouts(now=NOW + MINUTE)
    assert phases(rollout) == {"installing": 1, "offered": 2, "waiting": 2}
    with pytest.raises(Conflict, match="cannot be resumed"):
        lifecycle.resume(rollout, actor=None, now=NOW)


def test_stop_withdraws_what_no_device_has_begun() -> None:
    rollout = launched(make_draft(make_static("G", make_devices(5)), max_concurrent=3))
    tick_rollouts(now=NOW)
    one = Delivery.objects.filter(phase="offered").first()
    assert one is not None
    deliveries.move(Delivery.objects.filter(pk=one.pk), Event.INSTALL, now=NOW, cause="reported installing")
    assert lifecycle.stop(rollout, actor=None, now=NOW) == (4, 1)
    rollout.refresh_from_db()
    assert (rollout.state, rollout.ended_at) == ("stopped", None)
    deliveries.move(Delivery.objects.filter(pk=one.pk), Event.FAIL, now=NOW, cause="x")
    tick_rollouts(now=NOW)
    rollout.refresh_from_db()
    assert rollout.ended_at == NOW


def test_a_device_has_at_most_one_order_in_hand() -> None:
    devices = make_devices(2)
    first = launched(make_draft(make_static("A", devices)))
    second = launched(make_draft(make_static("B", devices), first.changes.get().image))
    tick_rollouts(now=NOW)
    assert phases(first) == {"offered": 2}
    assert phases(second) == {"waiting": 2}
    with pytest.raises(IntegrityError, match="one_order_in_hand"), transaction.atomic():
        Delivery.objects.filter(rollout=second).update(phase="offered")


def test_what_time_ran_out_for_expires_and_the_silent_time_out() -> None:
    rollout = launched(
        make_draft(make_static("G", make_devices(2)), expires_after_hours=5, max_attempts=1, max_concurrent=1)
    )
    tick_rollouts(now=NOW)
    deliveries.move(Delivery.objects.filter(phase="offered"), Event.INSTALL, now=NOW, cause="reported installing")
    tick_rollouts(now=NOW + timedelta(hours=2))
    deliveries.expire(now=NOW + timedelta(hours=5))
    assert phases(rollout) == {"failed": 1, "expired": 1}
    assert Delivery.objects.get(phase="failed").last_error == "no-answer"


def test_a_device_that_reached_the_version_by_itself_is_found_done() -> None:
    device = make_device()
    rollout = launched(make_draft(make_static("G", [device]), window_start=time(5), window_end=time(6)))
    Device.objects.update(firmware="v5.2.1", firmware_key=version_key("5.2.1"))
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"confirmed": 1}


def test_a_gate_that_cannot_be_met_waits_for_a_person() -> None:
    rings = [ring("Canary", RingKind.NUMBER, number=4), ring("Rest")]
    rollout = launched(make_draft(make_static("G", make_devices(8)), rings=rings, max_attempts=1))
    tick_rollouts(now=NOW)
    finish(rollout, phase=Phase.FAILED, now=NOW, most=1)
    finish(rollout, phase=Phase.CONFIRMED, now=NOW)
    tick_rollouts(now=NOW)
    shown = overview.rows([Rollout.objects.listed().get()], NOW)[0]
    assert [r["stuck"] for r in shown["rings"]] == [True, False]
    lifecycle.open_gate(rollout, actor=None, now=NOW)
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"failed": 1, "confirmed": 3, "offered": 4}
    with pytest.raises(Conflict, match="no closed gate"):
        lifecycle.open_gate(rollout, actor=None, now=NOW)


@pytest.mark.parametrize(
    ("change", "pointer"),
    [
        ({"rings": []}, "/rings"),
        ({"rings": [ring("X", RingKind.GROUP)]}, "/rings/0"),
        ({"rings": [ring("X", RingKind.NUMBER)]}, "/rings/0"),
        ({"window_start": time(1)}, "/window_end"),
        ({"window_start": time(1), "window_end": time(1)}, "/window_end"),
        ({"window_start": time(1), "window_end": time(1, 9)}, "/window_end"),
    ],
)
def test_drafts_that_do_not_fit_are_refused(change: dict[str, object], pointer: str) -> None:
    group, image = make_static("G", []), make_image()
    with pytest.raises(Invalid) as caught:
        make_draft(group, image, **change)
    assert caught.value.extra["errors"][0]["pointer"] == pointer
    assert Rollout.objects.count() == 0


def test_the_sentence_says_what_will_happen() -> None:
    group, spare = make_static("Field gateways", []), make_static("Spares", [])
    rollout = make_draft(group, exclude=[spare], window_start=time(1), window_end=time(4, 30), failure_limit_pct=2.5)
    assert rollout_sentence(rollout) == (
        "Put Sill 5.2.1 on Field gateways without Spares, in 1 ring, daily 01:00–04:30 device time, "
        "stopping at 2.5% failures."
    )


def test_after_the_last_ring_there_is_no_gate() -> None:
    rollout = launched(make_draft(make_static("G", make_devices(2)), rings=[ring(soak_minutes=0)]))
    tick_rollouts(now=NOW)
    deliveries.move(Delivery.objects.all(), Event.INSTALL, now=NOW, cause="reported installing")
    Delivery.objects.update(phase="confirmed")
    tick_rollouts(now=NOW + timedelta(minutes=30))
    tick_rollouts(now=NOW + timedelta(hours=1))
    assert rollout.rings.get().gate_met_at is None
    assert not RecordEntry.objects.filter(sentence__contains="gate").exists()
