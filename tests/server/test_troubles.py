"""What is wrong with the system itself is the first thing said: a clock that stands still, jobs nobody takes up."""

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from django.db import connection
from procrastinate.contrib.django import app
from rest_framework.test import APIClient

from herald.clock import heartbeat
from herald.clock.conditions import refresh_conditions
from herald.clock.models import Heartbeat
from herald.fleet.models import Device
from herald.now.troubles import troubles
from tests.factories import NOW, make_devices, make_user

pytestmark = pytest.mark.django_db
REAL = datetime(2026, 11, 23, 9, 0, tzinfo=UTC)
SECOND = timedelta(seconds=1)


def all_beat(real: datetime) -> None:
    for name in (heartbeat.TURN, heartbeat.FOLLOW, heartbeat.GATEWAY):
        heartbeat.beat(name, now=NOW, real_now=real)


def kinds(real: datetime) -> list[str]:
    return [t.kind for t in troubles(real_now=real)]


def ready() -> Any:
    return APIClient().get("/api/v1/ready")


def test_while_every_part_beats_nothing_is_wrong() -> None:
    all_beat(REAL)
    assert kinds(REAL + 14 * SECOND) == []


def test_parts_that_stop_are_named_the_clock_first() -> None:
    all_beat(REAL)
    assert kinds(REAL + 16 * SECOND) == ["clock-stopped", "gateway-stopped", "groups-stopped"]
    heartbeat.beat(heartbeat.GATEWAY, now=NOW, real_now=REAL + 16 * SECOND)
    stopped = troubles(real_now=REAL + 16 * SECOND)
    assert [(t.kind, t.since) for t in stopped] == [("clock-stopped", REAL), ("groups-stopped", REAL)]


def test_parts_that_never_beat_have_not_been_started() -> None:
    assert kinds(REAL) == ["clock-stopped", "gateway-stopped", "groups-stopped"]
    assert all(t.since is None for t in troubles(real_now=REAL))


def test_a_turn_that_took_long_is_late() -> None:
    all_beat(REAL)
    heartbeat.beat(heartbeat.TURN, now=NOW, seconds=7.4, real_now=REAL)
    (late,) = troubles(real_now=REAL + SECOND)
    assert late.kind == "turn-late" and "7 s" in late.text


def test_jobs_that_no_worker_takes_up_are_counted() -> None:
    all_beat(datetime.now(UTC))
    app.configure_task("herald.rollouts.tasks.carry_out_launch", queue="rollouts").defer(rollout_id=1)
    assert kinds(datetime.now(UTC)) == []
    with connection.cursor() as cursor:
        cursor.execute("UPDATE procrastinate_events SET at = at - interval '2 minutes'")
    (waiting,) = troubles(real_now=datetime.now(UTC))
    assert waiting.kind == "jobs-wait" and waiting.text.startswith("1 job waits")


def test_readiness_is_503_while_a_part_is_away_and_says_which() -> None:
    answer = ready()
    assert answer.status_code == 503
    assert {t["kind"] for t in answer.json()["troubles"]} == {"clock-stopped", "gateway-stopped", "groups-stopped"}
    all_beat(datetime.now(UTC))
    assert (ready().status_code, ready().json()) == (200, {"ready": True, "troubles": []})


def test_now_says_it_too() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    assert client.get("/api/v1/now").json()["troubles"][0]["kind"] == "clock-stopped"


def test_a_fleet_that_falls_silent_as_a_whole_is_one_thing_and_readiness_stands() -> None:
    all_beat(datetime.now(UTC))
    make_devices(30)
    refresh_conditions(now=NOW)
    assert ready().json()["troubles"] == []
    refresh_conditions(now=NOW + timedelta(hours=1))
    (silent,) = ready().json()["troubles"]
    assert silent["kind"] == "fleet-silent" and "Of 30 devices" in silent["text"] and "none" in silent["text"]
    assert ready().status_code == 200
    Device.objects.update(last_check_in=NOW + timedelta(hours=1))
    refresh_conditions(now=NOW + timedelta(hours=1))
    assert ready().json()["troubles"] == []


def test_a_few_devices_are_no_fleet_to_be_judged() -> None:
    make_devices(19)
    refresh_conditions(now=NOW + timedelta(hours=1))
    assert "fleet-silent" not in kinds(REAL)


def test_after_a_gap_a_part_counts_as_back_from_then_on() -> None:
    heartbeat.beat(heartbeat.TURN, now=NOW, real_now=REAL)
    heartbeat.beat(heartbeat.TURN, now=NOW + timedelta(hours=1), real_now=REAL + 10 * SECOND)
    assert Heartbeat.objects.get().back_at == NOW
    heartbeat.beat(heartbeat.TURN, now=NOW + timedelta(hours=9), real_now=REAL + 60 * SECOND)
    assert heartbeat.whole_since(REAL + 60 * SECOND) == NOW + timedelta(hours=9)


def test_while_the_gateway_is_away_nobody_can_be_heard() -> None:
    all_beat(REAL)
    assert heartbeat.whole_since(REAL + 10 * SECOND) == NOW
    heartbeat.beat(heartbeat.TURN, now=NOW, real_now=REAL + 20 * SECOND)
    assert heartbeat.whole_since(REAL + 20 * SECOND) is None
