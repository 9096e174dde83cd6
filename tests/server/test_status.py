"""Where a rollout stands: every answer that says so says the same, and it is true."""

from datetime import datetime, time, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import When
from herald.fleet.models import Device
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.models import Rollout
from herald.time import clock
from herald_core.rings.assignment import RingKind
from tests.factories import NOW, launched, make_devices, make_draft, make_image, make_static, make_user, restart, ring

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
HOUR = timedelta(hours=1)


def started(**settings: Any) -> Rollout:
    group = make_static("All of them", make_devices(4))
    rings = [ring("First", RingKind.NUMBER, number=2, confirmed_pct=50.0), ring("Rest")]
    rollout = launched(make_draft(group, make_image("5.3.0"), rings=rings, **settings))
    tick_rollouts(now=NOW)
    return rollout


def said(client: APIClient, rollout: Rollout) -> dict[str, Any]:
    """The status, which list, page, Now and report must agree about."""
    page = client.get(f"/api/v1/rollouts/{rollout.pk}").json()
    (listed,) = client.get("/api/v1/rollouts").json()["rollouts"]
    (on_now,) = client.get("/api/v1/now").json()["moving"]
    report = client.get(f"/api/v1/rollouts/{rollout.pk}/report").json()["rollout"]
    assert page["status"] == listed["status"] == on_now["status"] == report["status"]
    assert [r["gate"] for r in page["rings"]] == [r["gate"] for r in listed["rings"]]
    return dict(page["status"])


def test_what_is_offered_is_not_at_it(client: APIClient) -> None:
    rollout = started()
    status = said(client, rollout)
    assert (status["code"], status["devices"], status["unheard"]) == ("offered", 2, 0)


def test_a_fleet_that_was_switched_off_moves_nothing(client: APIClient, monkeypatch: pytest.MonkeyPatch) -> None:
    rollout = started()
    later: datetime = NOW + 8 * HOUR
    monkeypatch.setattr(clock, "now", lambda: later)
    status = said(client, rollout)
    assert (status["code"], status["devices"], status["unheard"]) == ("unheard", 2, 2)
    assert "are not heard from" in status["words"]
    Device.objects.filter(deliveries__phase="offered").update(last_check_in=later)
    assert said(client, rollout)["code"] == "offered"


def test_what_waits_says_for_what_and_until_when(client: APIClient) -> None:
    rollout = started(window_start=time(NOW.hour + 2), window_end=time(NOW.hour + 4))
    status = said(client, rollout)
    opens = NOW.replace(hour=NOW.hour + 2, minute=0, second=0, microsecond=0)
    assert (status["code"], status["devices"]) == ("waiting", 2)
    assert datetime.fromisoformat(status["until"]) == opens and "its window" in status["words"]


def test_a_rollout_that_was_stopped_promises_nothing(client: APIClient) -> None:
    rollout = started()
    lifecycle.stop(rollout, actor=None, now=NOW)
    page = client.get(f"/api/v1/rollouts/{rollout.pk}").json()
    assert (page["status"]["code"], [r["gate"]["code"] for r in page["rings"]]) == ("stopped", ["closed", "none"])


def test_a_command_says_where_it_stands_and_a_group_that_it_leaves_out_says_so(client: APIClient) -> None:
    devices = make_devices(3)
    group, spared = make_static("To restart", devices), make_static("Spared", devices[:1])
    draft = ScheduleDraft(
        template=restart(),
        include=[group],
        exclude=[spared],
        when=When.REPEAT,
        rule="FREQ=DAILY",
        time_of_day=time(NOW.hour + 3),
    )
    schedule = create_schedule(draft, actor=make_user(), now=NOW)
    (listed,) = client.get("/api/v1/schedules").json()["schedules"]
    page = client.get(f"/api/v1/schedules/{schedule.pk}").json()
    assert listed["status"] == page["status"] == {**page["status"], "code": "next", "devices": 2}
    following = {g: client.get(f"/api/v1/groups/{g.pk}").json()["following"][0]["sentence"] for g in (group, spared)}
    assert "leaves this group out" in following[spared] and "leaves" not in following[group]
