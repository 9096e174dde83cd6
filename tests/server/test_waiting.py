"""No delivery waits without a reason, and what ends the wait is said where it is known."""

from datetime import UTC, datetime, time, timedelta
from typing import Any

import pytest

from herald.clock.source import clock
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import Situation, Waiting, waits_for
from herald.fleet.models import Device
from herald.rollouts import services
from herald.rollouts.models import Rollout
from herald.rollouts.turn import turn_rollouts
from herald_core.deliveries import Event, Phase
from herald_core.rings.assignment import RingKind
from tests.factories import NOW, launched, make_device, make_devices, make_draft, make_image, make_static, ring

pytestmark = pytest.mark.django_db


@pytest.fixture(autouse=True)
def fixed_time() -> Any:
    with clock.fixed(NOW):
        yield


def one(**filters: Any) -> Delivery:
    query = Delivery.objects.select_related("device", "ring", "rollout", "image", "occurrence")
    return query.filter(**filters).order_by("id")[0]


def reason(delivery: Delivery, situation: Situation | None = None) -> Waiting:
    found = waits_for(delivery, situation)
    assert found is not None
    return found


def started(count: int = 2, **fields: Any) -> Rollout:
    return launched(make_draft(make_static("G", make_devices(count)), **fields))


def test_an_offer_waits_for_the_next_check_in() -> None:
    started()
    turn_rollouts(now=NOW)
    found = reason(one())
    assert (found.reason, found.until) == ("its next check-in", NOW + timedelta(minutes=14))


@pytest.mark.parametrize(
    ("event", "words", "until"),
    [
        (Event.FETCH, "the device to fetch the file", None),
        (Event.INSTALL, "the install", NOW + timedelta(minutes=10)),
        (Event.RETURN, "good health", NOW + timedelta(minutes=30)),
    ],
)
def test_each_phase_says_what_ends_it(event: Event, words: str, until: datetime | None) -> None:
    started(image=make_image(soak_minutes=30))
    turn_rollouts(now=NOW)
    deliveries.move(Delivery.objects.all(), event, now=NOW, cause="reported")
    found = reason(one())
    assert (found.reason, found.until) == (words, until)


def test_a_closed_delivery_waits_for_nothing() -> None:
    rollout = started()
    services.stop(rollout, actor=None, now=NOW)
    assert waits_for(one()) is None


def test_a_later_ring_waits_for_the_gate() -> None:
    started(4, rings=[ring("Canary", RingKind.NUMBER, number=1), ring("Rest")])
    turn_rollouts(now=NOW)
    assert reason(one(ring__position=2)).reason == "the gate before ring 2"


@pytest.mark.parametrize("state", ["paused", "halted"])
def test_a_held_rollout_is_the_reason(state: str) -> None:
    rollout = started()
    services.pause(rollout, actor=None, now=NOW)
    Rollout.objects.update(state=state)
    assert reason(one()).reason == f"the rollout is {state}"


def test_the_window_is_the_reason_and_when_it_opens_is_said() -> None:
    started(window_start=time(5), window_end=time(7))
    turn_rollouts(now=NOW)
    found = reason(one())
    assert found.reason == "the window, by the device's clock"
    assert found.until == datetime(2026, 11, 23, 5, 0, tzinfo=UTC)


def test_too_little_window_left_waits_for_the_next_one() -> None:
    started(window_start=time(1), window_end=time(2, 5))
    turn_rollouts(now=NOW)
    found = reason(one())
    assert found.reason.startswith("the next window")
    assert found.until == datetime(2026, 11, 24, 1, 0, tzinfo=UTC)


def test_the_cap_is_the_reason() -> None:
    rollout = started(3, at_once=1)
    turn_rollouts(now=NOW)
    situation = Situation(now=NOW, in_hand=Delivery.objects.in_hand_of_rollout(rollout.pk))
    assert reason(one(phase="waiting"), situation).reason == "room: 1 at once is the cap"


def test_another_order_in_hand_is_the_reason() -> None:
    rollout = started(2, at_once=1)
    turn_rollouts(now=NOW)
    delivery = one(phase="waiting")
    situation = Situation(now=NOW, busy_devices=frozenset({delivery.device_id}))
    assert reason(delivery, situation).reason == "another order that the device has in hand"
    assert rollout.state == "running"


def test_a_silent_device_and_a_pause_after_a_failure() -> None:
    started(1)
    turn_rollouts(now=NOW)
    step = deliveries.failure(deliveries.as_in_hand(one()), "flash-verify")
    change = deliveries.Change(delivery=one(), steps=[step])
    deliveries.apply_changes([change], now=NOW)
    retrying = reason(one())
    assert (retrying.reason, retrying.until) == ("the pause after a failed attempt", NOW + timedelta(minutes=10))
    Delivery.objects.update(not_before=NOW)
    Device.objects.update(last_check_in=NOW - timedelta(days=2))
    assert reason(one()).reason == "a call: the device is silent"


def test_a_rollout_that_starts_later_waits_for_its_time() -> None:
    later = NOW + timedelta(hours=3)
    started(1, starts_at=later)
    turn_rollouts(now=NOW)
    assert reason(one()) == Waiting(reason="the day on which the rollout begins", until=later)
    turn_rollouts(now=later)
    assert one().phase == Phase.OFFERED


def test_a_ready_device_waits_for_the_clock_only() -> None:
    make_device()
    started(1)
    assert reason(one()).reason.startswith("the gate before ring 1")
    turn_rollouts(now=NOW)
    assert one().phase == "offered"
