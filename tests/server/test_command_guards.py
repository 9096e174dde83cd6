"""Commands obey the same guards as rollouts: freezes, the count typed, and what else wants the devices."""

from datetime import UTC, datetime, time, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.calendar.services import FreezeDraft, save_freeze
from herald.commands import compose
from herald.commands.models import CommandTemplate, FreezeChoice, Occurrence, Schedule, When
from herald.commands.turn import turn_schedules
from herald.deliveries.models import Delivery
from herald.groups.models import Group
from tests.factories import NOW, launched, make_devices, make_draft, make_static, restart

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
HOUR, MINUTE = timedelta(hours=1), timedelta(minutes=1)


def draft(group: Group, **fields: Any) -> compose.ScheduleDraft:
    given = {"template": restart(), "include": [group], "when": When.NOW, "spread_minutes": 0, **fields}
    return compose.ScheduleDraft(**given)


def freeze(group: Group, start: datetime = NOW - HOUR, end: datetime = NOW + HOUR) -> None:
    save_freeze(FreezeDraft(name="F", starts_at=start, ends_at=end, groups=[group]), actor=None, now=NOW)


def phases() -> list[str]:
    return sorted(Delivery.objects.values_list("phase", flat=True))


def test_frozen_devices_wait_until_the_freeze_is_over() -> None:
    frozen, free = make_devices(2), make_devices(3)
    group = make_static("All", frozen + free)
    freeze(make_static("Frozen", frozen))
    compose.create_schedule(draft(group, max_concurrent=9), actor=None, now=NOW)
    turn_schedules(now=NOW)
    assert phases() == ["offered"] * 3 + ["waiting"] * 2
    turn_schedules(now=NOW + HOUR)
    assert phases() == ["offered"] * 5


def test_a_freeze_that_begins_before_the_restart_is_over_holds_it_too() -> None:
    group = make_static("All", make_devices(1))
    freeze(group, NOW + 4 * MINUTE, NOW + HOUR)
    compose.create_schedule(draft(group), actor=None, now=NOW)
    turn_schedules(now=NOW)
    assert phases() == ["waiting"]


def test_or_they_are_left_out_of_the_firing() -> None:
    frozen, free = make_devices(2), make_devices(3)
    group = make_static("All", frozen + free)
    freeze(make_static("Frozen", frozen))
    compose.create_schedule(draft(group, freezes=FreezeChoice.DROP), actor=None, now=NOW)
    assert (Occurrence.objects.get().audience, Occurrence.objects.get().frozen) == (3, 2)
    assert Delivery.objects.count() == 3


def test_gentle_commands_pass() -> None:
    report = CommandTemplate.objects.get(key="report")
    group = make_static("All", make_devices(2))
    freeze(group)
    compose.create_schedule(draft(group, template=report), actor=None, now=NOW)
    turn_schedules(now=NOW)
    assert phases() == ["offered", "offered"]


def test_one_that_waits_past_its_time_expires() -> None:
    from herald.deliveries.services import expire

    group = make_static("All", make_devices(1))
    freeze(group, end=NOW + 9 * HOUR)
    compose.create_schedule(draft(group, expires_after_minutes=60), actor=None, now=NOW)
    turn_schedules(now=NOW)
    expire(now=NOW + HOUR)
    assert phases() == ["expired"]


def body(group: Group, **fields: Any) -> dict[str, Any]:
    return {"include": [group.pk], "when": "now", "spread_minutes": 0, **fields}


def test_the_preview_says_who_is_frozen_and_what_else_wants_the_devices(client: APIClient) -> None:
    frozen, free = make_devices(2), make_devices(3)
    group = make_static("All", frozen + free)
    freeze(make_static("Frozen", frozen))
    rollout = launched(make_draft(make_static("Some", free[:2])))
    twin = compose.create_schedule(
        draft(group, when=When.REPEAT, rule="FREQ=DAILY", time_of_day=time(5)), actor=None, now=NOW
    )
    told = client.post("/api/v1/schedules/preview", body(group), format="json").json()
    assert (told["harm"], told["frozen"], told["reached_now"]) == ("disruptive", 2, 5)
    assert {(c["kind"], c["id"], c["devices"]) for c in told["conflicts"]} == {
        ("rollout", rollout.pk, 2),
        ("schedule", twin.pk, 5),
    }
    dropped = client.post("/api/v1/schedules/preview", body(group, freezes="drop"), format="json").json()
    assert dropped["reached_now"] == 3


def test_a_disruptive_command_that_runs_now_wants_the_count(client: APIClient) -> None:
    group = make_static("All", make_devices(3))
    for devices in (None, 2, 4):
        given = body(group) if devices is None else body(group, devices=devices)
        refused = client.post("/api/v1/schedules", given, format="json")
        assert (refused.status_code, refused.json()["reached"]) == (422, 3)
        assert refused.json()["type"].endswith(":count-mismatch")
    assert not Schedule.objects.exists()
    assert client.post("/api/v1/schedules", body(group, devices=3), format="json").status_code == 201


def test_a_daily_one_asks_for_no_count_but_running_it_now_does(client: APIClient) -> None:
    group = make_static("All", make_devices(3))
    daily = {"include": [group.pk], "when": "repeat", "rule": "FREQ=DAILY", "time_of_day": "05:30"}
    made = client.post("/api/v1/schedules", daily, format="json")
    assert made.status_code == 201 and made.json()["reached_now"] == 3
    url = f"/api/v1/schedules/{made.json()['id']}/run"
    assert client.post(url).status_code == 422
    assert client.post(url, {"devices": 3}, format="json").json() == {"devices": 3}


def test_what_a_schedule_cannot_be_is_refused_whole(client: APIClient) -> None:
    group = make_static("All", make_devices(1))
    for fields in (
        {"starts_on": "0001-01-01"},
        {"until": "9999-12-31"},
        {"starts_on": "2100-01-01"},
        {"until": "2026-11-21"},
        {"starts_on": "2026-12-02", "until": "2026-12-01"},
    ):
        daily = {"include": [group.pk], "when": "repeat", "rule": "FREQ=DAILY", "time_of_day": "05:30", **fields}
        refused = client.post("/api/v1/schedules", daily, format="json")
        assert refused.status_code == 422, fields
        assert refused.json()["errors"][0]["pointer"] in ("/starts_on", "/until")
    assert not Schedule.objects.exists()
    turn_schedules(now=datetime(2026, 11, 24, tzinfo=UTC))
