"""Everything paused in one press: whatever sets devices in motion is shut, and only what it shut is opened again."""

from datetime import time, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.commands import compose, services
from herald.commands.models import Schedule, ScheduleState, When
from herald.commands.turn import turn_schedules
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.now import pause
from herald.now.models import PauseOfEverything
from herald.record.models import RecordEntry
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout
from herald.time import clock
from herald_core.deliveries import Event
from tests.factories import (
    NOW,
    client_as,
    launched,
    make_devices,
    make_draft,
    make_image,
    make_static,
    make_user,
    restart,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
HOUR = timedelta(hours=1)
BODY = {"reason": "the river is over its banks"}


def daily(at: time = time(3)) -> Schedule:
    draft = compose.ScheduleDraft(
        template=restart(),
        include=[make_static(f"Of {Schedule.objects.count()}", make_devices(2))],
        when=When.REPEAT,
        rule="FREQ=DAILY",
        time_of_day=at,
        spread_minutes=0,
    )
    return compose.create_schedule(draft, actor=make_user(), now=NOW)


def rollout(version: str = "5.2.1", devices: int = 4, **fields: Any) -> Rollout:
    return launched(make_draft(make_static(f"For {version}", make_devices(devices)), make_image(version), **fields))


def press(client: APIClient) -> Any:
    answer = client.post("/api/v1/pause", BODY, format="json")
    assert answer.status_code == 200, answer.content
    return answer.json()


def states() -> dict[str, str]:
    return {
        **{f"rollout {pk}": s for pk, s in Rollout.objects.values_list("pk", "state")},
        **{f"command {pk}": s for pk, s in Schedule.objects.values_list("pk", "state")},
    }


def test_all_that_runs_is_paused_and_only_that_goes_on_again(client: APIClient) -> None:
    first, second = rollout(), rollout("5.2.2", 3)
    lifecycle.pause(second, actor=None, now=NOW)
    runs, rests = daily(), daily()
    services.set_state(rests, ScheduleState.PAUSED, actor=None, now=NOW)
    tick_rollouts(now=NOW)
    begun = Delivery.objects.of_rollout(first.pk).order_by("id")[:1].values("pk")
    deliveries.move(Delivery.objects.filter(pk__in=begun), Event.INSTALL, now=NOW, cause="reported installing")

    before = client.get("/api/v1/pause").json()
    assert before["standing"] is None
    assert before["runs"] == {"rollouts": 1, "launching": 0, "schedules": 1, "finishing": 1}
    assert press(client) == {"rollouts": 1, "launches": 0, "schedules": 1, "failed": []}
    assert set(states().values()) == {"paused"}
    # what has begun finishes; nothing else has an order, and nothing gets one
    tick_rollouts(now=NOW + HOUR)
    turn_schedules(now=NOW + 2 * HOUR)
    assert list(Delivery.objects.in_hand().values_list("phase", flat=True)) == ["installing"]
    standing = client.get("/api/v1/pause").json()["standing"]
    assert (standing["rollouts"], standing["schedules"], standing["waiting"]) == (1, 1, 3)
    assert (standing["reason"], standing["began_at"]) == (BODY["reason"], "2026-11-23T02:00:00Z")
    entry = RecordEntry.objects.filter(kind="everything").latest("id")
    assert entry.sentence == (
        "Paused everything (the river is over its banks): 1 rollout and 1 command; 1 device at it will finish"
    )

    assert client.post("/api/v1/pause/resume").json() == {"rollouts": 1, "launches": 0, "schedules": 1, "failed": []}
    assert states() == {
        f"rollout {first.pk}": "running",
        f"rollout {second.pk}": "paused",
        f"command {runs.pk}": "active",
        f"command {rests.pk}": "paused",
    }
    assert client.get("/api/v1/pause").json()["standing"] is None
    assert client.post("/api/v1/pause/resume").status_code == 409


def test_a_launch_that_has_not_begun_is_taken_back(client: APIClient) -> None:
    draft = make_draft(make_static("G", make_devices(2)))
    launching.request_launch(draft, expected=2, actor=make_user(), now=NOW)
    assert client.get("/api/v1/pause").json()["runs"]["launching"] == 1
    assert press(client)["launches"] == 1
    assert launching.launch(draft, now=NOW) is None, "the worker comes to it later"
    assert Delivery.objects.count() == 0
    draft.refresh_from_db()
    assert (draft.state, draft.reason) == ("draft", pause.NOT_LAUNCHED)


def test_a_firing_that_is_due_while_it_stands_is_not_caught_up(client: APIClient) -> None:
    daily()
    press(client)
    with clock.fixed(NOW + 2 * HOUR):
        turn_schedules(now=NOW + 2 * HOUR)
        client.post("/api/v1/pause/resume")
        turn_schedules(now=NOW + 2 * HOUR)
    assert Delivery.objects.count() == 0


def test_what_somebody_let_go_on_and_paused_again_is_theirs(client: APIClient) -> None:
    theirs, ours = rollout(), rollout("5.2.2")
    command = daily()
    press(client)
    with clock.fixed(NOW + HOUR):
        lifecycle.resume(theirs, actor=None, now=NOW + HOUR)
        lifecycle.pause(theirs, actor=None, now=NOW + HOUR)
        services.set_state(command, ScheduleState.ACTIVE, actor=None, now=NOW + HOUR)
        services.set_state(command, ScheduleState.PAUSED, actor=None, now=NOW + HOUR)
        done = client.post("/api/v1/pause/resume").json()
    assert done == {"rollouts": 1, "launches": 0, "schedules": 0, "failed": []}
    assert (states()[f"rollout {theirs.pk}"], states()[f"rollout {ours.pk}"]) == ("paused", "running")
    assert states()[f"command {command.pk}"] == "paused"


def test_it_is_pressed_again_for_what_was_launched_meanwhile(client: APIClient) -> None:
    rollout()
    press(client)
    assert client.post("/api/v1/pause", BODY, format="json").status_code == 409, "nothing runs"
    rollout("5.2.2")
    with clock.fixed(NOW + HOUR):
        assert press(client)["rollouts"] == 1
    assert PauseOfEverything.objects.count() == 1
    assert client.get("/api/v1/pause").json()["standing"]["rollouts"] == 2
    assert client.post("/api/v1/pause/resume").json()["rollouts"] == 2


def test_one_that_breaks_is_told_and_stops_no_other(client: APIClient, monkeypatch: pytest.MonkeyPatch) -> None:
    broken, well = rollout(), rollout("5.2.2")
    real = lifecycle.pause

    def breaks(one: Rollout, **given: Any) -> int:
        if one.pk == broken.pk:
            raise ZeroDivisionError
        return real(one, **given)

    monkeypatch.setattr(lifecycle, "pause", breaks)
    assert press(client) == {"rollouts": 1, "launches": 0, "schedules": 0, "failed": [f"rollout {broken.pk}"]}
    assert (states()[f"rollout {broken.pk}"], states()[f"rollout {well.pk}"]) == ("running", "paused")
    assert f"not rollout {broken.pk}" in RecordEntry.objects.filter(kind="everything").latest("id").sentence


def test_what_may_not_go_on_is_told(client: APIClient) -> None:
    held = rollout()
    press(client)
    image = held.changes.get().image
    assert image is not None
    type(image).objects.filter(pk=image.pk).update(status="withdrawn", reason="it burns")
    done = client.post("/api/v1/pause/resume").json()
    assert done["rollouts"] == 0
    assert "was withdrawn" in done["failed"][0]
    assert states()[f"rollout {held.pk}"] == "paused"


def test_a_reason_is_needed_and_who_may_only_look_may_not(client: APIClient) -> None:
    rollout()
    refused = client.post("/api/v1/pause", {"reason": " "}, format="json")
    assert (refused.status_code, refused.json()["errors"][0]["pointer"]) == (422, "/reason")
    viewer = client_as("viewer")
    assert viewer.post("/api/v1/pause", BODY, format="json").status_code == 403
    assert viewer.get("/api/v1/pause").status_code == 200
    assert set(states().values()) == {"running"}
