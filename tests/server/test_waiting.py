"""No delivery waits without a reason, and what ends the wait is said where it is known."""

from datetime import UTC, datetime, time, timedelta
from itertools import count
from typing import Any

import pytest
from django.db import transaction
from hypothesis import given, settings
from hypothesis import strategies as st
from rest_framework.test import APIClient

from herald.attention.models import Quarantine
from herald.calendar.services import FreezeDraft, save_freeze
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import When
from herald.commands.turn import turn_schedules
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import WaitingFor, waits_of
from herald.fleet.models import Device, Site
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.models import Ring, Rollout
from herald_core.deliveries import Event, Phase, failure
from herald_core.rings.assignment import RingKind
from herald_core.timing.firings import spread_seconds
from herald_core.versions import version_key
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_image,
    make_site,
    make_static,
    make_user,
    restart,
    ring,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
HOUR = timedelta(hours=1)


def one(**filters: Any) -> Delivery:
    query = Delivery.objects.select_related("device", "ring", "rollout", "image", "occurrence")
    return query.filter(**filters).order_by("id")[0]


def reason(delivery: Delivery, now: datetime = NOW) -> WaitingFor:
    return waits_of([delivery], now)[delivery.pk]


def started(count: int = 2, **fields: Any) -> Rollout:
    return launched(make_draft(make_static("G", make_devices(count)), **fields))


def test_an_offer_waits_for_the_next_check_in() -> None:
    started()
    tick_rollouts(now=NOW)
    found = reason(one())
    assert (found.code, found.until) == ("check-in", NOW + timedelta(minutes=14))


@pytest.mark.parametrize(
    ("event", "code", "until"),
    [
        (Event.FETCH, "fetch", None),
        (Event.INSTALL, "install", NOW + timedelta(minutes=10)),
        (Event.RETURN, "health", NOW + timedelta(minutes=30)),
    ],
)
def test_each_phase_says_what_ends_it(event: Event, code: str, until: datetime | None) -> None:
    started(image=make_image(soak_minutes=30))
    tick_rollouts(now=NOW)
    deliveries.move(Delivery.objects.all(), event, now=NOW, cause="reported")
    found = reason(one())
    assert (found.code, found.until) == (code, until)


def test_a_closed_delivery_waits_for_nothing() -> None:
    rollout = started()
    lifecycle.stop(rollout, actor=None, now=NOW)
    assert waits_of([one()], NOW) == {}


def test_a_later_ring_waits_for_the_gate() -> None:
    started(4, rings=[ring("Canary", RingKind.NUMBER, number=1), ring("Rest")])
    tick_rollouts(now=NOW)
    found = reason(one(ring__position=2))
    assert (found.code, found.reason) == ("gate", "the gate before ring 2")


@pytest.mark.parametrize("state", ["paused", "halted"])
def test_a_held_rollout_is_the_reason(state: str) -> None:
    rollout = started()
    lifecycle.pause(rollout, actor=None, now=NOW)
    Rollout.objects.update(state=state)
    assert reason(one()).code == state


def test_the_window_is_the_reason_and_when_it_opens_is_said() -> None:
    started(window_start=time(5), window_end=time(7))
    tick_rollouts(now=NOW)
    found = reason(one())
    assert found.code == "window"
    assert found.until == datetime(2026, 11, 23, 5, 0, tzinfo=UTC)


def test_too_little_window_left_waits_for_the_next_one() -> None:
    started(window_start=time(1), window_end=time(2, 5))
    tick_rollouts(now=NOW)
    found = reason(one())
    assert found.code == "window-too-short"
    assert found.until == datetime(2026, 11, 24, 1, 0, tzinfo=UTC)


def test_the_cap_is_the_reason() -> None:
    started(3, max_concurrent=1)
    tick_rollouts(now=NOW)
    found = reason(one(phase="waiting"))
    assert found.code == "cap" and "1 at once" in found.reason


def test_another_order_in_hand_is_the_reason_on_whichever_page() -> None:
    group = make_static("G", make_devices(1))
    image = make_image()
    schedule = create_schedule(
        ScheduleDraft(template=restart(), include=[group], when=When.NOW, spread_minutes=0),
        actor=None,
        now=NOW,
    )
    turn_schedules(now=NOW)
    rollout = launched(make_draft(group, image))
    tick_rollouts(now=NOW)
    install = one(rollout=rollout)
    assert reason(install).code == "busy"
    client = APIClient()
    client.force_authenticate(make_user())
    of_device = client.get(f"/api/v1/devices/{install.device.uid}/orders").json()["deliveries"]
    of_rollout = client.get(f"/api/v1/rollouts/{rollout.pk}/deliveries").json()["deliveries"]
    of_command = client.get(f"/api/v1/schedules/{schedule.pk}/deliveries").json()["deliveries"]
    by_id = {row["id"]: row["waits_for"] for row in of_device}
    assert [by_id[r["id"]] for r in (*of_rollout, *of_command)] == [r["waits_for"] for r in (*of_rollout, *of_command)]
    assert by_id[install.pk]["code"] == "busy"


def test_a_command_says_what_it_waits_for_and_never_for_a_file() -> None:
    devices = make_devices(3)
    group = make_static("G", devices)
    draft = ScheduleDraft(template=restart(), include=[group], when=When.NOW, spread_minutes=20, max_concurrent=1)
    schedule = create_schedule(draft, actor=None, now=NOW)
    # one whose turn is in the very first second would begin at once
    places = ((f"SPREAD-{n}", spread_seconds(f"schedule-{schedule.pk}", f"SPREAD-{n}", HOUR / 3)) for n in count())
    for device, uid in zip(devices, (uid for uid, place in places if place > 0), strict=False):
        Device.objects.filter(pk=device.pk).update(uid=uid)
    later = NOW + timedelta(minutes=19, seconds=59)
    turn_schedules(now=NOW)
    codes = {w.code for w in waits_of(Delivery.objects.of_schedule(schedule.pk).listed(), NOW).values()}
    assert codes == {"not-begun"}
    turn_schedules(now=later)
    codes_later = sorted(w.code for w in waits_of(Delivery.objects.of_schedule(schedule.pk).listed(), later).values())
    assert codes_later == ["cap", "cap", "check-in"]
    deliveries.move(Delivery.objects.filter(phase="offered"), Event.ACCEPT, now=later, cause="reported accepted")
    assert reason(one(phase="accepted")).code == "carry-out"
    deliveries.move(Delivery.objects.filter(phase="accepted"), Event.RUN, now=later, cause="reported running")
    assert reason(one(phase="running")).code == "come-back"


def test_the_pause_after_a_failure_is_the_reason() -> None:
    started(1)
    tick_rollouts(now=NOW)
    step = failure(deliveries.as_in_hand(one()), "flash-verify")
    change = deliveries.Change(delivery=one(), steps=[step])
    deliveries.apply_changes([change], now=NOW)
    retrying = reason(one())
    assert (retrying.code, retrying.until) == ("retry", NOW + timedelta(minutes=10))


@pytest.mark.parametrize(
    ("fields", "code"),
    [
        ({"admission": "waiting"}, "not-admitted"),
        ({"time_zone": "Nowhere/Land"}, "unknown-zone"),
        ({"firmware_key": version_key("5.2.1")}, "runs-already"),
    ],
)
def test_the_device_itself_may_be_the_reason(fields: dict[str, Any], code: str) -> None:
    started(1)
    Device.objects.update(**fields)
    Ring.objects.update(opened_at=NOW)
    assert reason(one()).code == code


@pytest.mark.parametrize(("begins", "code"), [(-60, "freeze"), (5, "freeze-near"), (15, "turn")])
def test_a_freeze_is_the_reason_also_where_it_is_about_to_begin(begins: int, code: str) -> None:
    started(1)  # which takes ten minutes
    Ring.objects.update(opened_at=NOW)
    start = NOW + timedelta(minutes=begins)
    draft = FreezeDraft(name="Harvest", starts_at=start, ends_at=start + timedelta(hours=5), everywhere=True)
    save_freeze(draft, actor=None, now=NOW)
    found = reason(one())
    assert found.code == code
    if code != "turn":
        assert "Harvest" in found.reason and found.until == start + timedelta(hours=5)
    tick_rollouts(now=NOW)
    assert (one().phase == "offered") == (code == "turn")


def test_caps_of_a_site_and_its_uplink_are_reasons() -> None:
    started(2, max_concurrent_per_site=1)
    tick_rollouts(now=NOW)
    assert reason(one(phase="waiting")).code == "site-cap"
    Rollout.objects.update(max_concurrent_per_site=None)
    Site.objects.update(transfers_at_once=1)
    assert reason(one(phase="waiting")).code == "uplink"


def test_what_is_in_quarantine_says_so() -> None:
    rollout = started(1)
    Quarantine.objects.create(part="rollout", object_id=rollout.pk, cause="x", since=NOW, retry_at=NOW)
    assert reason(one()).code == "quarantined"


def test_a_rollout_that_starts_later_waits_for_its_time() -> None:
    later = NOW + timedelta(hours=3)
    started(1, starts_at=later)
    tick_rollouts(now=NOW)
    assert (reason(one()).code, reason(one()).until) == ("not-begun", later)
    tick_rollouts(now=later)
    assert one().phase == Phase.OFFERED


def test_a_ready_device_waits_for_the_clock_only() -> None:
    make_device()
    started(1)
    assert reason(one()).code == "gate"
    tick_rollouts(now=NOW)
    assert one().phase == "offered"


# -- the reason and the engine agree


@st.composite
def worlds(draw: st.DrawFn) -> dict[str, Any]:
    """Settings of a rollout, and what becomes of its devices."""
    window = draw(st.sampled_from([None, (1, 5), (3, 4), (20, 1)]))
    hours = {"window_start": time(window[0]), "window_end": time(window[1])} if window else {}
    return {
        "rollout": {
            **hours,
            "max_concurrent": draw(st.integers(1, 6)),
            "max_concurrent_per_site": draw(st.sampled_from([None, 1, 2])),
            "max_starts_per_hour": draw(st.sampled_from([None, 1, 3])),
            "spread_minutes": draw(st.sampled_from([0, 30, 300])),
            "starts_at": draw(st.sampled_from([None, NOW + timedelta(minutes=30)])),
            "rings": [ring("First", RingKind.NUMBER, number=draw(st.integers(1, 4))), ring("Rest")],
        },
        "devices": draw(
            st.lists(
                st.fixed_dictionaries(
                    {
                        "zone": st.sampled_from(["UTC", "Asia/Kolkata", "Australia/Adelaide", "Nowhere/Land"]),
                        "site": st.integers(0, 1),
                        "admission": st.sampled_from(["admitted", "admitted", "admitted", "waiting"]),
                        "already": st.sampled_from([False, False, False, True]),
                        "silent": st.booleans(),
                        "hold_reason": st.sampled_from(["", "", "", "broken"]),
                        "expedited": st.sampled_from([False, False, True]),
                        "other": st.sampled_from([None, None, None, "higher", "busy"]),
                        "frozen": st.booleans(),
                    }
                ),
                min_size=1,
                max_size=7,
            )
        ),
        "uplink": draw(st.sampled_from([1, 20])),
        "freeze": draw(st.sampled_from([None, -30, 5, 60])),
        "minutes": draw(st.integers(0, 360)),
    }


def build(world: dict[str, Any]) -> Rollout:
    image = make_image()
    devices = [
        make_device(site=make_site(f"Site {d['site']}"), check_in_interval_seconds=60 * (n + 1))
        for n, d in enumerate(world["devices"])
    ]
    Site.objects.update(transfers_at_once=world["uplink"])
    wanted = [d for d, w in zip(devices, world["devices"], strict=True) if w["other"] == "higher"]
    busy = [d for d, w in zip(devices, world["devices"], strict=True) if w["other"] == "busy"]
    if wanted:
        launched(make_draft(make_static("Wanted", wanted), make_image("5.1.9", b"older"), starts_at=NOW + HOUR * 99))
    rollout = launched(make_draft(make_static("All", devices), image, **world["rollout"]))
    if wanted:  # the newer target took their place; they are wanted again all the same
        Delivery.objects.filter(phase="superseded").update(phase="waiting")
    if busy:
        draft = ScheduleDraft(template=restart(), include=[make_static("Busy", busy)], when=When.NOW, spread_minutes=0)
        create_schedule(draft, actor=None, now=NOW)
        turn_schedules(now=NOW)
    for device, d in zip(devices, world["devices"], strict=True):
        called = NOW - timedelta(days=3) if d["silent"] else NOW
        key = image.version_key if d["already"] else device.firmware_key
        Device.objects.filter(pk=device.pk).update(
            time_zone=d["zone"], admission=d["admission"], last_check_in=called, firmware_key=key
        )
        Delivery.objects.filter(rollout=rollout, device=device).update(
            hold_reason=d["hold_reason"], expedited=d["expedited"]
        )
    if world["freeze"] is not None:
        start = NOW + timedelta(minutes=world["minutes"] + world["freeze"])
        frozen = [d for d, w in zip(devices, world["devices"], strict=True) if w["frozen"]]
        draft = FreezeDraft(name="F", starts_at=start, ends_at=start + HOUR, groups=[make_static("Frozen", frozen)])
        save_freeze(draft, actor=None, now=NOW)
    return rollout


def waiting_reasons(rollout: Rollout, now: datetime) -> dict[int, str]:
    rows = list(Delivery.objects.of_rollout(rollout.pk).filter(phase="waiting").page(1000))
    return {pk: w.code for pk, w in waits_of(rows, now).items()}


@settings(max_examples=25, deadline=None)
@given(world=worlds())
def test_what_is_offered_waits_for_nothing_and_what_is_not_waits_for_something(world: dict[str, Any]) -> None:
    with transaction.atomic():
        rollout = build(world)
        now = NOW + timedelta(minutes=world["minutes"])
        Ring.objects.filter(rollout=rollout, position=1).update(opened_at=NOW)
        before = waiting_reasons(rollout, now)
        rows = Delivery.objects.of_rollout(rollout.pk)
        at_first = turn_and_phases(rollout, now)
        offered = {before[pk] for pk, phase in at_first.items() if phase == "offered"}
        assert offered <= {"turn", "gate"}  # the gate before it may open in the same turn
        moved, phases = True, at_first
        while moved:  # a turn takes no more than the caps leave; then all that may go has gone
            phases, before_turn = turn_and_phases(rollout, now), phases
            moved = phases != before_turn
        after = waiting_reasons(rollout, now)
        assert set(after) == set(rows.filter(phase="waiting").values_list("pk", flat=True))
        assert "turn" not in after.values()
        transaction.set_rollback(True)


def turn_and_phases(rollout: Rollout, now: datetime) -> dict[int, str]:
    tick_rollouts(now=now)
    return dict(Delivery.objects.of_rollout(rollout.pk).values_list("pk", "phase"))
