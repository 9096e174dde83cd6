"""The room Now: what waits for a decision, what moves, what comes, what wants attention."""

from datetime import UTC, datetime, time, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.calendar.services import FreezeDraft, save_freeze
from herald.clock.conditions import refresh_conditions
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import When
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.watch.stored_forecasts import store_forecasts
from herald.time import clock
from herald_core.deliveries import Event
from herald_core.rings.assignment import RingKind
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_site,
    make_static,
    make_user,
    restart,
    ring,
)

HOUR = timedelta(hours=1)
pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]


def now() -> dict[str, Any]:
    client = APIClient()
    client.force_authenticate(make_user())
    return dict(client.get("/api/v1/now").json())


def test_an_empty_fleet_has_nothing_to_say() -> None:
    state = now()
    assert (state["devices"], state["decisions"], state["moving"], state["coming"], state["attention"]) == (
        0,
        [],
        [],
        [],
        [],
    )


def test_a_running_rollout_moves_and_a_draft_does_not() -> None:
    group = make_static("G", make_devices(2))
    first = make_draft(group)
    assert now()["moving"] == []
    launched(first)
    assert [r["id"] for r in now()["moving"]] == [first.pk]


def test_a_pause_a_halt_and_a_stuck_gate_wait_for_a_person() -> None:
    rings = [ring("Canary", RingKind.NUMBER, number=2), ring("Rest")]
    rollout = launched(make_draft(make_static("Field", make_devices(4)), rings=rings, max_attempts=1))
    tick_rollouts(now=NOW)
    one = Delivery.objects.filter(phase="offered").order_by("id")[0]
    deliveries.move(Delivery.objects.filter(pk=one.pk), Event.FAIL, now=NOW, cause="bad")
    deliveries.move(Delivery.objects.filter(phase="offered"), Event.RETURN, now=NOW, cause="back")
    deliveries.move(Delivery.objects.filter(phase="confirming"), Event.CONFIRM, now=NOW, cause="good")
    tick_rollouts(now=NOW)
    (stuck,) = now()["decisions"]
    assert (stuck["kind"], stuck["rollout"]) == ("stuck", rollout.pk)
    assert "cannot leave ring 1" in stuck["title"] and "1 confirmed, 1 failed, 2 wait" in stuck["detail"]
    lifecycle.pause(rollout, actor=None, now=NOW)
    (paused,) = now()["decisions"]
    assert paused["kind"] == "paused"
    lifecycle.resume(rollout, actor=None, now=NOW)
    lifecycle.halt(rollout, reason="2 of 2 tried failed", now=NOW)
    (halted,) = now()["decisions"]
    assert halted["kind"] == "halted" and "2 of 2 tried failed" in halted["detail"]
    lifecycle.stop(rollout, actor=None, now=NOW)
    assert now()["decisions"] == []


def test_the_next_firings_come_zone_by_zone() -> None:
    devices = [make_device(), make_device(site=make_site("There", "Asia/Kolkata"))]
    draft = ScheduleDraft(
        template=restart(),
        include=[make_static("G", devices)],
        when=When.REPEAT,
        rule="FREQ=DAILY",
        time_of_day=time(5, 30),
    )
    create_schedule(draft, actor=None, now=NOW)
    coming = now()["coming"]
    assert [c["text"] for c in coming] == ["Restart, UTC", "Restart, Kolkata"]
    assert datetime.fromisoformat(coming[1]["at"]) == datetime(2026, 11, 24, 0, 0, tzinfo=UTC)
    assert "1 device" in coming[0]["detail"]


def test_what_wants_attention_is_counted_with_a_rule_that_lists_it() -> None:
    make_device(last_check_in=NOW - timedelta(days=3))
    make_device(last_check_in=None)
    make_device(facts={"battery": 12})
    make_device(facts={"battery": "12"})  # a text is no charge
    make_device(firmware=None)
    make_device(admission="waiting")
    refresh_conditions(now=NOW)
    state = now()
    assert {a["kind"]: a["count"] for a in state["attention"]} == {
        "silent": 2,
        "low-battery": 1,
        "no-firmware": 1,
        "awaiting-admission": 1,
    }
    assert state["heard"] == 4


def test_an_item_is_closed_when_its_condition_is_over_and_opens_anew_later() -> None:
    device = make_device(facts={"battery": 12})
    refresh_conditions(now=NOW)
    refresh_conditions(now=NOW + timedelta(minutes=1))
    (item,) = now()["attention"]
    assert (item["count"], datetime.fromisoformat(item["opened_at"])) == (1, NOW)
    type(device).objects.update(facts={"battery": 80})
    refresh_conditions(now=NOW + timedelta(minutes=2))
    assert now()["attention"] == []
    type(device).objects.update(facts={"battery": 3})
    refresh_conditions(now=NOW + timedelta(minutes=3))
    assert [i["id"] for i in now()["attention"]] != [item["id"]]


def test_windows_rings_and_freezes_come_too_each_told_apart() -> None:
    group = make_static("All of them", make_devices(4, site=make_site("West", "Europe/Lisbon")))
    rollout = launched(
        make_draft(
            group,
            window_start=time(3),
            window_end=time(6),
            rings=[ring("First", RingKind.NUMBER, number=1, soak_minutes=30), ring("Rest")],
        )
    )
    tick_rollouts(now=NOW)
    store_forecasts(now=NOW)
    draft = FreezeDraft(name="Harvest", starts_at=NOW + HOUR, ends_at=NOW + 4 * HOUR, groups=[group])
    save_freeze(draft, actor=None, now=NOW)
    later = FreezeDraft(name="Later", starts_at=NOW + 30 * HOUR, ends_at=NOW + 40 * HOUR, groups=[group])
    save_freeze(later, actor=None, now=NOW)
    coming = now()["coming"]
    told = {c["kind"]: (c["id"], c["text"], c["zone"], c["devices"]) for c in coming}
    assert told["window"] == (rollout.pk, "Window of Sill 5.2.1, Lisbon", "Europe/Lisbon", 4)
    assert told["freeze"][1:] == ("Freeze “Harvest” begins", "*", 4)
    assert told["thaw"][1:] == ("Freeze “Harvest” ends", "*", 4)
    assert told["ring"] == (rollout.pk, "Ring 2, Rest, of Sill 5.2.1 is expected to open", "*", 3)
    assert [c["at"] for c in coming] == sorted(c["at"] for c in coming)
    assert not any("Later" in c["text"] for c in coming)


def test_what_will_reach_one_device_one_site_and_one_group() -> None:
    west, east = make_site("West", "Europe/Lisbon"), make_site("East", "Asia/Kolkata")
    mine, other = make_device(site=west), make_device(site=east)
    group, everybody = make_static("Mine", [mine]), make_static("All", [mine, other])
    draft = ScheduleDraft(
        template=restart(), include=[everybody], when=When.REPEAT, rule="FREQ=DAILY", time_of_day=time(5, 30)
    )
    schedule = create_schedule(draft, actor=None, now=NOW)
    save_freeze(
        FreezeDraft(name="East only", starts_at=NOW + HOUR, ends_at=NOW + 9 * HOUR, sites=[east]), actor=None, now=NOW
    )
    client = APIClient()
    client.force_authenticate(make_user("viewer"))

    def coming(path: str) -> list[tuple[str, int, str, int]]:
        with clock.fixed(NOW):
            return [(c["kind"], c["id"], c["zone"], c["devices"]) for c in client.get(f"/api/v1/{path}/coming").json()]

    week = [("firing", schedule.pk, "Europe/Lisbon", 1)] * 7
    assert coming(f"devices/{mine.name}") == week
    assert coming(f"sites/{west.pk}") == week
    assert coming(f"groups/{group.pk}") == week
    assert {kind for kind, *_ in coming(f"devices/{other.name}")} == {"firing", "freeze", "thaw"}
    assert len([c for c in coming(f"groups/{everybody.pk}") if c[0] == "firing"]) == 14
    assert client.get("/api/v1/devices/nobody/coming").status_code == 404
    assert client.get("/api/v1/sites/99/coming").status_code == 404
    assert client.get("/api/v1/groups/987654/coming").status_code == 404


def test_a_ring_is_coming_to_those_who_are_in_it(client: APIClient) -> None:
    rings = [ring("First", RingKind.NUMBER, number=1), ring("Second", RingKind.NUMBER, number=1), ring("Rest")]
    launched(make_draft(make_static("G", make_devices(3)), rings=rings))
    store_forecasts(now=NOW)
    tick_rollouts(now=NOW)
    assert Delivery.objects.count() == 3
    for delivery in Delivery.objects.select_related("device", "ring"):
        assert delivery.ring is not None
        found = client.get(f"/api/v1/devices/id:{delivery.device_id}/coming").json()
        said = [c["text"] for c in found if c["kind"] == "ring"]
        expected = [] if delivery.ring.position == 1 else [f"Ring {delivery.ring.position}, {delivery.ring.name}, of"]
        assert len(said) == len(expected)
        assert all(text.startswith(start) for text, start in zip(said, expected, strict=True))
