"""The spread of a rollout's starts: who is offered when, what a waiting device says, and who need not wait."""

from datetime import time, timedelta

import pytest
from rest_framework.test import APIClient

from herald.deliveries.models import Delivery
from herald.deliveries.waiting import WaitingFor, waits_of
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import devices, edit
from herald.rollouts.models import Rollout
from herald.rollouts.watch.forecast import forecast_rollout
from herald.rollouts.watch.sentence import rollout_sentence
from tests.factories import NOW, launched, make_devices, make_draft, make_image, make_static, make_user

pytestmark = pytest.mark.django_db
MINUTE = timedelta(minutes=1)


def spread_rollout(**fields: object) -> Rollout:
    """Four devices, of which each has its turn at a quarter of the spread."""
    rollout = launched(make_draft(make_static("G", make_devices(4)), **{"spread_minutes": 40, **fields}))
    for number, delivery in enumerate(Delivery.objects.of_rollout(rollout.pk).order_by("id")):
        Delivery.objects.filter(pk=delivery.pk).update(spread_position=number / 4)
    return rollout


def offered(rollout: Rollout) -> list[float]:
    return sorted(
        Delivery.objects.of_rollout(rollout.pk).exclude(phase="waiting").values_list("spread_position", flat=True)
    )


def wait_of(rollout: Rollout, place: float, now: object) -> WaitingFor | None:
    delivery = Delivery.objects.of_rollout(rollout.pk).listed().select_related("rollout").get(spread_position=place)
    return waits_of([delivery], now)[delivery.pk]


def test_devices_begin_one_after_another_and_say_when_their_turn_comes() -> None:
    rollout = spread_rollout()
    assert "starts spread over 40 min, stopping at" in rollout_sentence(rollout)
    tick_rollouts(now=NOW)
    assert offered(rollout) == [0.0]
    waits = wait_of(rollout, 0.75, NOW)
    assert waits is not None and (waits.code, waits.until) == ("spread", NOW + 30 * MINUTE)
    tick_rollouts(now=NOW + 19 * MINUTE)
    assert offered(rollout) == [0.0, 0.25]
    tick_rollouts(now=NOW + 30 * MINUTE)
    assert offered(rollout) == [0.0, 0.25, 0.5, 0.75]


def test_a_short_window_is_used_to_its_half_at_most() -> None:
    window = {"window_start": time(1, 30), "window_end": time(3, 10)}  # since half an hour, by the devices' clocks
    rollout = spread_rollout(**window, spread_minutes=600)
    tick_rollouts(now=NOW)  # ten minutes are for the install, so thirty of sixty may be used from the ring's opening
    assert offered(rollout) == [0.0]
    assert (wait_of(rollout, 0.75, NOW) or WaitingFor(code="", reason="")).until == NOW + 22.5 * MINUTE
    tick_rollouts(now=NOW + 23 * MINUTE)
    assert offered(rollout) == [0.0, 0.25, 0.5, 0.75]


def test_who_is_pushed_does_not_wait_for_its_turn_and_the_spread_can_be_changed_ahead() -> None:
    rollout = spread_rollout()
    last = Delivery.objects.of_rollout(rollout.pk).select_related("device").get(spread_position=0.75)
    devices.expedite(rollout, [last.device.name], actor=None, now=NOW)
    tick_rollouts(now=NOW)
    assert offered(rollout) == [0.0, 0.75]
    told = edit.edit_open_rollout(rollout, {"spread_minutes": 0}, {}, actor=None, now=NOW)
    assert [(d.what, d.before, d.after) for d in told] == [("spread, minutes", "40", "0")]
    tick_rollouts(now=NOW + MINUTE)
    assert len(offered(rollout)) == 4


def test_a_rollout_is_spread_unless_it_says_otherwise_and_its_forecast_knows() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    group, image = make_static("G", make_devices(12)), make_image()
    body = {
        "changes": [{"choice": "image", "image_id": image.pk}],
        "include": [group.pk],
        "rings": [{"name": "All", "kind": "rest"}],
        "window_start": None,  # at any hour: usual hours would halve the long spread, by what NOW leaves of them
        "window_end": None,
    }
    made = client.post("/api/v1/rollouts", body, format="json").json()
    assert made["spread_minutes"] == 15
    slow = client.post("/api/v1/rollouts", {**body, "spread_minutes": 600}, format="json").json()
    refused = client.post("/api/v1/rollouts", {**body, "spread_minutes": -1}, format="json")
    assert (refused.status_code, refused.json()["errors"][0]["pointer"]) == (422, "/spread_minutes")
    quick, long = (
        forecast_rollout(Rollout.objects.get(pk=r["id"]), now=NOW, failure_rate=0.0).forecast for r in (made, slow)
    )
    assert long.end.median > quick.end.median + 3600
    assert long.limits["spread"] > 3600 > quick.limits["spread"]
