"""Scheduled commands: firings per zone, spread, giving up."""

from datetime import UTC, date, datetime, time, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.commands.models import CommandTemplate, Occurrence, Schedule, ScheduleState, When
from herald.commands.sentence import schedule_sentence
from herald.commands.services import (
    ScheduleDraft,
    create_schedule,
    preview_firings,
    run_once,
    set_state,
    turn_schedules,
)
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.groups.models import Group
from herald.http.errors import Conflict, Invalid, NobodyThere
from tests.factories import NOW, launched, make_device, make_devices, make_draft, make_site, make_static, make_user

pytestmark = pytest.mark.django_db


def draft(group: Group, **fields: Any) -> ScheduleDraft:
    defaults = {"template": CommandTemplate.RESTART, "include": [group], "when": When.DAILY, "time_of_day": time(5, 30)}
    return ScheduleDraft(**{**defaults, **fields})


def everywhere() -> Group:
    devices = [*make_devices(2), make_device(site=make_site("There", "Asia/Kolkata"))]
    return make_static("G", devices)


def test_preview_lists_firings_per_zone_by_device_clocks() -> None:
    zones = preview_firings(draft(everywhere()), now=NOW, count=2)
    assert [(z.zone, z.devices) for z in zones] == [("UTC", 2), ("Asia/Kolkata", 1)]
    assert zones[0].firings[0][0] == datetime(2026, 11, 23, 5, 30, tzinfo=UTC)
    assert zones[1].firings[0][0] == datetime(2026, 11, 24, 0, 0, tzinfo=UTC)  # 05:30 in Kolkata


def test_preview_says_what_a_clock_change_does() -> None:
    group = make_static("G", [make_device(site=make_site("L", "Europe/Lisbon"))])
    now = datetime(2026, 3, 28, 12, tzinfo=UTC)
    firings = preview_firings(draft(group, time_of_day=time(1, 30)), now=now, count=2)[0].firings
    assert firings[0] == (datetime(2026, 3, 29, 1, 0, tzinfo=UTC), "skipped")
    assert firings[1][1] == ""


def test_starts_on_and_until_bound_the_firings() -> None:
    days = {"starts_on": date(2026, 12, 1), "until": date(2026, 12, 2)}
    zones = preview_firings(draft(make_static("G", [make_device()]), **days), now=NOW)
    assert [at.day for at, _ in zones[0].firings] == [1, 2]


def test_it_fires_in_each_zone_once_and_spreads() -> None:
    schedule = create_schedule(draft(everywhere()), actor=None, now=NOW)
    turn_schedules(now=datetime(2026, 11, 23, 5, 29, tzinfo=UTC))
    assert Occurrence.objects.count() == 0
    at = datetime(2026, 11, 23, 5, 30, tzinfo=UTC)
    for _ in range(3):
        turn_schedules(now=at)
    assert list(Occurrence.objects.values_list("zone", "audience")) == [("UTC", 2)]
    mine = Delivery.objects.of_schedule(schedule.pk)
    assert all(at <= d.not_before < at + timedelta(minutes=20) for d in mine)
    turn_schedules(now=at + timedelta(minutes=20))
    assert mine.filter(phase="offered").count() == 2


def test_what_is_not_begun_in_time_is_missed() -> None:
    schedule = create_schedule(draft(everywhere()), actor=None, now=NOW)
    turn_schedules(now=datetime(2026, 11, 23, 6, 0, tzinfo=UTC))
    deliveries.expire(now=datetime(2026, 11, 23, 7, 30, tzinfo=UTC))
    assert set(Delivery.objects.of_schedule(schedule.pk).values_list("phase", flat=True)) == {"expired"}


def test_a_clock_that_was_down_does_not_fire_late() -> None:
    create_schedule(draft(everywhere()), actor=None, now=NOW)
    turn_schedules(now=datetime(2026, 11, 23, 20, 0, tzinfo=UTC))
    assert set(Delivery.objects.values_list("phase", flat=True)) == {"expired"}


def test_now_fires_at_once_and_ends_by_itself() -> None:
    group = everywhere()
    schedule = create_schedule(draft(group, when=When.NOW, time_of_day=None, spread_minutes=0), actor=None, now=NOW)
    turn_schedules(now=NOW)
    assert Delivery.objects.filter(phase="offered").count() == 3
    Delivery.objects.update(phase="confirmed")
    turn_schedules(now=NOW + timedelta(minutes=1))
    schedule.refresh_from_db()
    assert schedule.state == "ended"


def test_a_command_waits_for_an_install_in_hand() -> None:
    devices = make_devices(1)
    group = make_static("G", devices)
    rollout = launched(make_draft(group))
    deliveries.offer(
        Delivery.objects.of_rollout(rollout.pk).values_list("id", flat=True), until=NOW + timedelta(days=1), now=NOW
    )
    create_schedule(draft(group, when=When.NOW, time_of_day=None, spread_minutes=0), actor=None, now=NOW)
    turn_schedules(now=NOW)
    assert Delivery.objects.get(kind="command").phase == "waiting"


def test_pausing_ending_and_running_once() -> None:
    schedule = create_schedule(draft(everywhere()), actor=None, now=NOW)
    set_state(schedule, ScheduleState.PAUSED, actor=None, now=NOW)
    turn_schedules(now=datetime(2026, 11, 23, 6, 0, tzinfo=UTC))
    assert Occurrence.objects.count() == 0
    later = datetime(2026, 11, 23, 8, 0, tzinfo=UTC)
    set_state(schedule, ScheduleState.ACTIVE, actor=None, now=later)
    turn_schedules(now=later)
    assert Occurrence.objects.count() == 0  # what was missed is not caught up
    assert run_once(schedule, actor=None, now=later) == 3
    set_state(schedule, ScheduleState.ENDED, actor=None, now=later)
    assert set(Delivery.objects.values_list("phase", flat=True)) == {"withdrawn"}
    with pytest.raises(Conflict):
        run_once(schedule, actor=None, now=later)


def test_nobody_is_refused() -> None:
    empty = make_static("Empty", [])
    with pytest.raises(NobodyThere):
        create_schedule(draft(empty, when=When.NOW, time_of_day=None), actor=None, now=NOW)
    with pytest.raises(NobodyThere):
        create_schedule(draft(empty, include=[]), actor=None, now=NOW)
    assert Schedule.objects.count() == 0


@pytest.mark.parametrize(
    ("change", "pointer"),
    [
        ({"time_of_day": None}, "/time_of_day"),
        ({"expires_after_minutes": 20}, "/expires_after_minutes"),
        ({"expires_after_minutes": 1400}, "/expires_after_minutes"),
        ({"starts_on": date(2026, 12, 2), "until": date(2026, 12, 1)}, "/until"),
    ],
)
def test_drafts_that_do_not_fit_are_refused(change: dict[str, Any], pointer: str) -> None:
    with pytest.raises(Invalid) as caught:
        create_schedule(draft(make_static("G", []), **change), actor=None, now=NOW)
    assert caught.value.extra["errors"][0]["pointer"] == pointer


def test_the_sentence() -> None:
    schedule = create_schedule(draft(everywhere(), until=date(2027, 3, 31)), actor=None, now=NOW)
    assert schedule_sentence(schedule) == (
        "Restart G every day at 05:30 device time, spread over 20 minutes, giving up after 2 hours, until 31 Mar 2027."
    )


def test_a_command_is_worded_by_the_server_while_it_is_composed() -> None:
    client = APIClient()
    client.force_authenticate(make_user())

    def said(**fields: Any) -> list[dict[str, str]]:
        body = {"include": [], "when": "daily", **fields}
        answer = client.post("/api/v1/schedules/sentence", body, format="json")
        assert answer.status_code == 200, answer.json()
        return list(answer.json())

    def text(parts: list[dict[str, str]]) -> str:
        return "".join(p["text"] for p in parts)

    assert text(said()) == (
        "Restart which devices? with no exclusions at which time?, spread over 20 minutes, giving up after 2 hours, "
        "waiting for freezes to end"
    )
    group, other = everywhere(), make_static("Bench", [])
    whole = said(
        include=[group.pk],
        exclude=[other.pk],
        include_devices=["one", "two"],
        time_of_day="05:30",
        until="2027-03-31",
        spread_minutes=90,
        freezes="drop",
    )
    assert text(whole) == (
        f"Restart {group.name} and 2 devices without Bench every day at 05:30 device time, spread over 1 h 30 min, "
        "giving up after 2 hours, until 31 Mar 2027, leaving out devices in a freeze"
    )
    assert [p["slot"] for p in whole if p["slot"]] == [
        "audience", "exclude", "when", "spread", "give_up", "when", "freezes",
    ]  # fmt: skip
    assert text(said(when="now")).startswith("Restart which devices? with no exclusions now, ")
    saved = create_schedule(draft(group), actor=None, now=NOW)
    assert schedule_sentence(saved) == (
        f"Restart {group.name} every day at 05:30 device time, spread over 20 minutes, giving up after 2 hours."
    )
    assert not Schedule.objects.exclude(pk=saved.pk).exists()
