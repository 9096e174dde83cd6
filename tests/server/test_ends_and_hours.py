"""When a rollout ends, its hours where nobody says any, what it is called, and the notice before an install."""

from datetime import datetime, time, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.deliveries.waiting import waits_of
from herald.fleet.models import Device
from herald.gateway.flush import PendingCheckIn, flush
from herald.gateway.messages import Answer, read_check_in
from herald.http.errors import Conflict
from herald.record.models import RecordEntry
from herald.rollouts.compose.usual_hours import usual_hours
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene.devices import retry
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout
from herald_core.deliveries import Deferral, Event
from tests.factories import NOW, launched, make_device, make_devices, make_draft, make_image, make_model, make_static

pytestmark = pytest.mark.django_db
HOUR, DAY = timedelta(hours=1), timedelta(days=1)


def body(group: Any, **fields: Any) -> dict[str, Any]:
    return {
        "changes": [{"choice": "newest"}],
        "include": [group.pk],
        "rings": [{"name": "All", "kind": "rest"}],
        **fields,
    }


# an end


def test_what_is_not_begun_by_the_end_expires() -> None:
    draft = make_draft(make_static("G", make_devices(2)), ends_at=NOW + 5 * HOUR, max_concurrent=1)
    rollout = launched(draft)
    assert set(Delivery.objects.values_list("not_after", flat=True)) == {NOW + 5 * HOUR}
    tick_rollouts(now=NOW)
    deliveries.expire(now=NOW + 5 * HOUR + timedelta(seconds=1))
    assert set(Delivery.objects.of_rollout(rollout.pk).values_list("phase", flat=True)) == {"expired"}
    # whoever tries again after the end wants it tried again
    names = list(Device.objects.values_list("name", flat=True))
    retry(rollout, names, actor=None, now=NOW + 6 * HOUR)
    assert set(Delivery.objects.values_list("not_after", flat=True)) == {NOW + 6 * HOUR + 14 * DAY}


@pytest.mark.usefixtures("fixed_time")
def test_an_end_before_the_start_or_now_is_refused(client: APIClient) -> None:
    group = make_static("G", make_devices(1))
    image = make_image()
    starts = (NOW + DAY).isoformat()
    refused = client.post("/api/v1/rollouts", body(group, starts_at=starts, ends_at=NOW.isoformat()), format="json")
    assert refused.status_code == 422
    assert refused.json()["errors"][0]["pointer"] == "/ends_at"
    over = make_draft(group, image, ends_at=NOW - HOUR)
    with pytest.raises(Conflict, match="which is over"):
        launching.request_launch(over, expected=1, actor=None, now=NOW)


@pytest.mark.usefixtures("fixed_time")
def test_the_end_and_the_days_of_an_open_rollout_are_changed(client: APIClient) -> None:
    rollout = launched(make_draft(make_static("G", make_devices(2)), window_start=time(1), window_end=time(5)))
    path = f"/api/v1/rollouts/{rollout.pk}/changes"
    change = {"ends_at": (NOW + 3 * DAY).isoformat(), "window_days": [5, 6]}
    told = client.post(f"{path}/preview", change, format="json").json()
    assert {d["what"]: (d["before"], d["after"]) for d in told} == {
        "ends": ("none", "26 Nov 2026, 02:00 UTC"),
        "on": ("every day", "Sat, Sun"),
    }
    assert set(Delivery.objects.values_list("not_after", flat=True)) == {NOW + 14 * DAY}
    assert client.post(path, change, format="json").status_code == 200
    assert set(Delivery.objects.values_list("not_after", flat=True)) == {NOW + 3 * DAY}
    assert client.post(path, {"ends_at": None}, format="json").status_code == 200
    assert set(Delivery.objects.values_list("not_after", flat=True)) == {NOW + 14 * DAY}
    refused = client.post(path, {"ends_at": (NOW - HOUR).isoformat()}, format="json")
    assert refused.status_code == 422
    assert "nobody would get it any more" in refused.json()["detail"]


# hours that nobody chose


def test_the_hours_last_used_for_a_model_are_taken() -> None:
    sills, vanes = make_devices(2), make_devices(2, model=make_model("Vane M1", "Vane"))
    group, other = make_static("Sills", sills), make_static("Vanes", vanes)
    image = make_image()
    assert usual_hours([image], []).rollout is None
    first = launched(make_draft(group, image, window_start=time(22), window_end=time(2), window_days=[5]))
    launched(make_draft(group, make_image("5.3.0", b"newer")), now=NOW + HOUR)  # at any hour, on purpose
    for found in (usual_hours([image], []), usual_hours([], [group]), usual_hours([], [], (), [sills[0].pk])):
        assert (found.rollout, found.window_start, found.window_end, list(found.window_days)) == (
            first,
            time(22),
            time(2),
            [5],
        )
    assert usual_hours([], [other]) == usual_hours([], [])
    assert usual_hours([], [other]).window_start == time(1)


@pytest.mark.usefixtures("fixed_time")
def test_a_draft_without_a_word_of_hours_gets_the_usual_ones_and_null_is_any_hour(client: APIClient) -> None:
    group = make_static("G", make_devices(1))
    image = make_image()
    made = client.post("/api/v1/rollouts", body(group), format="json").json()
    assert (made["window_start"], made["window_end"]) == ("01:00:00", "05:00:00")
    launched(make_draft(group, image, window_start=time(20), window_end=time(21), window_days=[1]))
    asked = client.post("/api/v1/rollouts/usual-hours", {"include": [group.pk]}, format="json").json()
    assert (asked["window_start"], asked["rollout_id"], asked["rollout"]) == (
        "20:00:00",
        Rollout.objects.latest("id").pk,
        "Sill 5.2.1",
    )
    again = client.put(f"/api/v1/rollouts/{made['id']}", body(group), format="json").json()
    assert (again["window_start"], again["window_days"]) == ("20:00:00", [1])
    any_hour = client.post("/api/v1/rollouts", body(group, window_start=None, window_end=None), format="json").json()
    assert (any_hour["window_start"], any_hour["window_days"]) == (None, [])
    half = client.post("/api/v1/rollouts", body(group, window_start="01:00"), format="json")
    assert half.json()["errors"][0]["pointer"] == "/window_end"


# what it is called


@pytest.mark.usefixtures("fixed_time")
def test_a_rollout_is_named_at_any_time(client: APIClient) -> None:
    rollout = launched(make_draft(make_static("G", make_devices(1))))
    Rollout.objects.filter(pk=rollout.pk).update(state="stopped", ended_at=NOW)
    path = f"/api/v1/rollouts/{rollout.pk}/words"
    named = client.put(path, {"name": "Frost season", "ticket": "OPS-118"}, format="json").json()
    assert (named["name"], named["purpose"], named["ticket"], named["state"]) == (
        "Frost season",
        "",
        "OPS-118",
        "stopped",
    )
    assert "name none → Frost season" in RecordEntry.objects.latest("id").sentence
    assert client.put(path, {"name": "Frost season", "ticket": "OPS-118"}, format="json").status_code == 409
    assert client.put(path, {"name": "x" * 81}, format="json").status_code == 422


# the notice


def says(device: Device, now: datetime, **report: Any) -> Answer:
    """What a device says, and is answered."""
    import msgspec

    message: dict[str, Any] = {"firmware": "5.1.0"}
    if report:
        message["report"] = report
    arrival = PendingCheckIn(device.secret_hash, read_check_in(msgspec.json.encode(message)))
    (answer,) = flush([arrival], now=now)
    assert isinstance(answer, Answer)
    return answer


def with_notice(**fields: Any) -> tuple[Rollout, Device]:
    device = make_device()
    rollout = launched(make_draft(make_static("G", [device]), notice="Valves stay shut.", **fields))
    tick_rollouts(now=NOW)
    return rollout, device


def test_a_notice_is_put_off_as_often_as_allowed_and_no_more() -> None:
    _, device = with_notice(defer_times=2)
    order = says(device, NOW).order
    assert order is not None
    assert (order.notice, order.may_defer) == ("Valves stay shut.", True)
    about = {"order": order.id, "phase": "staged"}
    shown = says(device, NOW + HOUR, **about, counter=1, notice_shown=True).order
    assert shown is not None
    assert shown.may_defer
    for counter, still in ((2, True), (3, False), (4, False)):
        answered = says(device, NOW + counter * HOUR, **about, counter=counter, deferred=True).order
        assert answered is not None
        assert answered.may_defer is still
    delivery = Delivery.objects.get()
    assert waits_of([delivery], NOW + 4 * HOUR)[delivery.pk].reason == "whoever read its notice and put it off"
    assert (delivery.notice_shown_at, delivery.times_deferred, delivery.deferred_at) == (
        NOW + HOUR,
        2,
        NOW + 3 * HOUR,
    )
    # said again, it is shown only once; and a report that is repeated counts nothing
    says(device, NOW + 5 * HOUR, **about, counter=5, notice_shown=True)
    says(device, NOW + 5 * HOUR, **about, counter=5, deferred=True)
    causes = list(DeliveryEvent.objects.order_by("id").values_list("cause", flat=True))
    assert causes.count("notice-shown") == 1
    assert causes.count("deferred") == 2


def test_an_install_put_off_beyond_its_hours_is_given_again_and_counts_as_no_attempt() -> None:
    rollout, device = with_notice(defer_times=3)
    order = says(device, NOW).order
    assert order is not None
    says(device, NOW, order=order.id, counter=1, phase="staged", deferred=True)
    says(device, NOW, order=order.id, counter=2, phase="failed", error="deferred")
    delivery = Delivery.objects.get()
    assert (delivery.phase, delivery.max_attempts - delivery.attempt) == ("waiting", rollout.max_attempts - 1)
    tick_rollouts(now=NOW + HOUR)
    again = says(device, NOW + HOUR).order
    assert again is not None
    assert again.may_defer
    assert Delivery.objects.get().times_deferred == 1


def test_what_was_put_off_counts_for_the_steps_that_follow() -> None:
    with_notice(defer_times=2)
    further = make_image("5.3.0", b"further")
    Delivery.objects.update(
        phase="confirming", times_deferred=2, hops=2, remaining_image_ids=[further.pk], target=further.pk
    )
    deliveries.move(Delivery.objects.all(), Event.CONFIRM, now=NOW, cause="good")
    following = Delivery.objects.get(hop=2)
    assert (following.times_deferred, following.image) == (2, further)


def test_it_may_be_put_off_until_a_moment() -> None:
    _, device = with_notice(defer_until=NOW + 2 * HOUR)
    order = says(device, NOW).order
    assert order is not None
    assert (order.may_defer, order.defer_until_seconds) == (True, 7200)
    late = says(device, NOW + 2 * HOUR, order=order.id, counter=1, phase="staged", deferred=True).order
    assert late is not None
    assert (late.may_defer, late.defer_until_seconds) == (False, 0)
    assert Delivery.objects.get().times_deferred == 0


def test_without_leave_nothing_is_put_off_and_leave_needs_a_notice(client: APIClient) -> None:
    assert not Deferral().allows(0, NOW)
    both = Deferral(times=1, until=NOW + HOUR)
    assert both.allows(0, NOW)
    assert not both.allows(1, NOW)
    assert not both.allows(0, NOW + HOUR)
    group = make_static("G", make_devices(1))
    refused = client.post("/api/v1/rollouts", body(group, defer_times=2), format="json")
    assert refused.json()["errors"][0]["pointer"] == "/notice"
