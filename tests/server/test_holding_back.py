"""What keeps an offer back: freezes, rank, caps of sites and hours, approvals; and audiences that move."""

from datetime import UTC, datetime, time, timedelta
from itertools import count

import pytest
from django.db import transaction
from hypothesis import given, settings
from hypothesis import strategies as st

from herald.calendar.models import Freeze
from herald.calendar.services import FreezeDraft, delete_freeze, save_freeze
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import waits_of
from herald.fleet.models import Device, Site
from herald.groups.membership import set_members
from herald.groups.references import live_references
from herald.http.errors import Conflict, Invalid, NobodyThere
from herald.record.models import RecordEntry
from herald.rollouts.compose import ring_plans
from herald.rollouts.engine import audience_sync
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import devices, edit, lifecycle
from herald.rollouts.models import RingPlan, Rollout
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
    ring,
)

pytestmark = pytest.mark.django_db
HOUR = timedelta(hours=1)
_names = count(1)


def freeze(start: datetime, end: datetime, **fields: object) -> Freeze:
    draft = FreezeDraft(name=f"Harvest {next(_names)}", starts_at=start, ends_at=end, **fields)  # type: ignore[arg-type]
    return save_freeze(draft, actor=None, now=NOW)


def phases(rollout: Rollout) -> dict[str, int]:
    found: dict[str, int] = {}
    for phase in Delivery.objects.of_rollout(rollout.pk).values_list("phase", flat=True):
        found[phase] = found.get(phase, 0) + 1
    return found


def reason(delivery: Delivery) -> str:
    found = waits_of([delivery], NOW).get(delivery.pk)
    return found.reason if found else ""


def confirm_offered(rollout: Rollout) -> None:
    offered = Delivery.objects.of_rollout(rollout.pk)
    deliveries.move(offered.filter(phase="offered"), Event.RETURN, now=NOW, cause="back")
    deliveries.move(offered.filter(phase="confirming"), Event.CONFIRM, now=NOW, cause="good")


# -- freezes ---------------------------------------------------------------------------------------


def test_a_freeze_says_whom_and_when() -> None:
    with pytest.raises(Invalid, match="holds nobody"):
        freeze(NOW, NOW + HOUR)
    with pytest.raises(Invalid, match="ends after it begins"):
        freeze(NOW, NOW, everywhere=True)
    assert Freeze.objects.count() == 0


def test_nothing_is_offered_in_a_freeze_and_the_device_says_until_when() -> None:
    here, there = make_device(), make_device(site=make_site("There", "Asia/Kolkata"))
    frozen = freeze(NOW - HOUR, NOW + 5 * HOUR, sites=[Site.objects.get(name="There")])
    rollout = launched(make_draft(make_static("G", [here, there])))
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"offered": 1, "waiting": 1}
    assert f"the end of the freeze “{frozen.name}”" in reason(Delivery.objects.get(device=there))
    delete_freeze(frozen, actor=None, now=NOW)
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"offered": 2}


def test_an_install_must_end_before_the_freeze_begins() -> None:
    near, far = make_devices(2)
    freeze(NOW + timedelta(minutes=9), NOW + HOUR, groups=[make_static("N", [near])])
    later = freeze(NOW + timedelta(minutes=30), NOW + HOUR, groups=[make_static("F", [far])])
    rollout = launched(make_draft(make_static("G", [near, far])))
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"offered": 1, "waiting": 1}
    assert Delivery.objects.get(device=far).offer_until == later.starts_at - timedelta(minutes=10)


def test_a_freeze_is_overridden_by_a_person_with_a_reason() -> None:
    freeze(NOW - HOUR, NOW + HOUR, everywhere=True)
    rollout = launched(make_draft(make_static("G", make_devices(2))))
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"waiting": 2}
    changes = {"freeze_override_reason": "frost tonight"}
    with pytest.raises(Invalid, match="overridden by a person"):
        edit.edit_open_rollout(rollout, changes, {}, actor=None, now=NOW)
    asked = make_user()
    edit.edit_open_rollout(rollout, changes, {}, actor=asked, now=NOW)
    assert "goes on in freezes none → frost tonight" in RecordEntry.objects.latest("id").sentence
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"waiting": 2}, "nobody approved it"
    with pytest.raises(Conflict, match="somebody else"):
        lifecycle.approve_override(rollout, actor=asked, now=NOW)
    lifecycle.approve_override(rollout, actor=make_user("approver"), now=NOW)
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"offered": 2}


@settings(max_examples=40)
@given(
    freezes=st.lists(st.tuples(st.integers(-300, 300), st.integers(1, 300), st.booleans()), max_size=4),
    minutes=st.integers(0, 1440),
    window=st.one_of(st.none(), st.tuples(st.integers(0, 23), st.integers(0, 23)).filter(lambda w: w[0] != w[1])),
    cap=st.integers(1, 4),
)
def test_no_offer_reaches_into_a_freeze_or_out_of_the_window(
    freezes: list[tuple[int, int, bool]], minutes: int, window: tuple[int, int] | None, cap: int
) -> None:
    with transaction.atomic():
        devices = [
            make_device(site=make_site(z, z)) for z in ("Asia/Kolkata", "Australia/Adelaide", "America/Santiago")
        ]
        some = make_static(f"S{next(_names)}", devices[:2])
        for start, length, everywhere in freezes:
            begins = NOW + timedelta(minutes=start)
            whom: dict[str, object] = {"everywhere": True} if everywhere else {"groups": [some]}
            freeze(begins, begins + timedelta(minutes=length), **whom)
        hours = {"window_start": time(window[0]), "window_end": time(window[1])} if window else {}
        rollout = launched(make_draft(make_static(f"G{next(_names)}", devices), max_concurrent=cap, **hours))
        now = NOW + timedelta(minutes=minutes)
        tick_rollouts(now=now)
        offered = list(Delivery.objects.filter(phase="offered").select_related("device"))
        assert len(offered) <= cap
        for delivery in offered:
            assert delivery.offer_until is not None and delivery.offer_until > now
            for moment in (now, delivery.offer_until + timedelta(minutes=10)):
                for held in Freeze.objects.all():
                    mine = held.everywhere or delivery.device_id in {d.pk for d in devices[:2]}
                    assert not (mine and held.starts_at < moment and now < held.ends_at), (held.starts_at, moment)
                if window:
                    local = moment.astimezone(zone_of(delivery.device)).time()
                    assert inside(local, time(window[0]), time(window[1])), (local, window)
        assert sum(phases(rollout).values()) == 3
        transaction.set_rollback(True)


def zone_of(device: Device) -> object:
    from zoneinfo import ZoneInfo

    return ZoneInfo(device.time_zone)


def inside(at: time, start: time, end: time) -> bool:
    return start <= at <= end if start < end else at >= start or at <= end


# -- caps ------------------------------------------------------------------------------------------


def test_a_site_gets_no_more_than_its_uplink_and_the_cap_carry() -> None:
    small = make_site("Small")
    Site.objects.filter(pk=small.pk).update(transfers_at_once=2)
    devices = [*[make_device(site=small) for _ in range(5)], *make_devices(4)]
    rollout = launched(make_draft(make_static("G", devices), max_concurrent_per_site=3))
    other = launched(make_draft(make_static("H", [make_device(site=small)]), rollout.changes.get().image))
    tick_rollouts(now=NOW)
    tick_rollouts(now=NOW)
    at_small = Delivery.objects.filter(phase="offered", device__site=small)
    assert (at_small.count(), phases(rollout)["offered"], phases(other)) == (2, 5, {"waiting": 1})
    assert "uplink" in reason(Delivery.objects.filter(rollout=other).get())


def test_no_more_start_in_an_hour_than_the_cap() -> None:
    rollout = launched(make_draft(make_static("G", make_devices(5)), max_starts_per_hour=2))
    tick_rollouts(now=NOW)
    confirm_offered(rollout)
    tick_rollouts(now=NOW + timedelta(minutes=59))
    assert phases(rollout) == {"confirmed": 2, "waiting": 3}
    tick_rollouts(now=NOW + timedelta(minutes=61))
    assert phases(rollout) == {"confirmed": 2, "offered": 2, "waiting": 1}


# -- rank ------------------------------------------------------------------------------------------


def test_the_higher_rank_holds_a_device_and_the_order_can_be_changed() -> None:
    devices = make_devices(2)
    first = launched(make_draft(make_static("A", devices), starts_at=NOW + 5 * HOUR))
    second = launched(make_draft(make_static("B", devices), first.changes.get().image))
    assert list(Rollout.objects.moving()) == [first, second]
    tick_rollouts(now=NOW)
    assert phases(second) == {"waiting": 2}
    waiting = Delivery.objects.filter(rollout=second).select_related("rollout", "ring", "device", "image")[0]
    assert reason(waiting) == f"rollout {first.pk}, which ranks higher"
    with pytest.raises(Invalid, match="name each of them once"):
        lifecycle.order_by_rank([second.pk], actor=None, now=NOW)
    lifecycle.order_by_rank([second.pk, first.pk], actor=None, now=NOW)
    tick_rollouts(now=NOW)
    assert phases(second) == {"offered": 2}


# -- approvals -------------------------------------------------------------------------------------


def test_a_gate_waits_for_somebody_else() -> None:
    rings = [ring("First", RingKind.NUMBER, number=1, needs_approval=True), ring("Rest")]
    rollout = launched(make_draft(make_static("G", make_devices(2)), rings=rings))
    launcher, other = make_user(), make_user("approver")
    Rollout.objects.update(launched_by=launcher)
    tick_rollouts(now=NOW)
    confirm_offered(rollout)
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"confirmed": 1, "waiting": 1}
    with pytest.raises(Conflict, match="somebody else must approve"):
        lifecycle.approve_gate(rollout, position=1, actor=launcher, now=NOW)
    with pytest.raises(Conflict, match="does not wait"):
        lifecycle.approve_gate(rollout, position=2, actor=other, now=NOW)
    lifecycle.approve_gate(rollout, position=1, actor=other, now=NOW)
    with pytest.raises(Conflict, match="approved already"):
        lifecycle.approve_gate(rollout, position=1, actor=other, now=NOW)
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"confirmed": 1, "offered": 1}


# -- stepping in -----------------------------------------------------------------------------------


def test_single_devices_are_pushed_retried_and_skipped() -> None:
    one, two, three = make_devices(3)
    rings = [ring("First", RingKind.GROUP, group=make_static("F", [one])), ring("Rest")]
    rollout = launched(make_draft(make_static("G", [one, two, three]), rings=rings, max_attempts=1))
    assert devices.expedite(rollout, [two.name], actor=None, now=NOW) == 1
    tick_rollouts(now=NOW)
    assert Delivery.objects.get(device=two).phase == "offered"
    assert devices.skip(rollout, [three.name], reason="in the workshop", actor=None, now=NOW) == 1
    deliveries.move(Delivery.objects.filter(device=one), Event.FAIL, now=NOW, cause="flash-verify")
    with pytest.raises(NobodyThere):
        devices.retry(rollout, [two.name], actor=None, now=NOW)
    with pytest.raises(NobodyThere):
        devices.expedite(rollout, [three.name], actor=None, now=NOW)
    with pytest.raises(Invalid, match="Say why"):
        devices.skip(rollout, [one.name], reason="", actor=None, now=NOW)
    assert devices.retry(rollout, [one.name], actor=None, now=NOW) == 1
    again = Delivery.objects.get(device=one)
    assert (again.phase, again.attempt, again.max_attempts) == ("waiting", 2, 2)
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"offered": 2, "withdrawn": 1}


def test_what_expired_is_tried_again_with_time_left() -> None:
    rollout = launched(make_draft(make_static("G", make_devices(1)), expires_after_hours=2, starts_at=NOW + HOUR))
    late = NOW + 4 * HOUR
    lifecycle.pause(rollout, actor=None, now=NOW)
    deliveries.expire(now=late)
    devices.retry(rollout, list(Device.objects.values_list("name", flat=True)), actor=None, now=late)
    deliveries.expire(now=late)
    assert phases(rollout) == {"waiting": 1}


def test_what_is_ahead_is_changed_with_its_differences_and_what_is_behind_is_not() -> None:
    rings = [ring("First", RingKind.NUMBER, number=1), ring("Second", RingKind.NUMBER, number=1), ring("Rest")]
    rollout = launched(make_draft(make_static("G", make_devices(4)), rings=rings))
    tick_rollouts(now=NOW)
    confirm_offered(rollout)
    tick_rollouts(now=NOW)
    hours = {"window_start": time(1), "window_end": time(4), "max_concurrent": 7}
    told = edit.edit_open_rollout(rollout, hours, {2: {"soak_minutes": 90}}, actor=None, now=NOW)
    assert [(d.ring, d.what, d.before, d.after) for d in told] == [
        (None, "window opens", "none", "01:00"),
        (None, "window closes", "none", "04:00"),
        (None, "at once", "200", "7"),
        (2, "soak, minutes", "0", "90"),
    ]
    rollout.refresh_from_db()
    assert (rollout.max_concurrent, rollout.rings.get(position=2).soak_minutes) == (7, 90)
    with pytest.raises(Conflict, match="Nothing would change"):
        edit.edit_open_rollout(rollout, {"max_concurrent": 7}, {}, actor=None, now=NOW)
    with pytest.raises(Conflict, match="is open already"):
        edit.differences(rollout, {}, {1: {"soak_minutes": 5}}, now=NOW)
    with pytest.raises(Invalid, match="no ring 9"):
        edit.differences(rollout, {}, {9: {"soak_minutes": 5}}, now=NOW)
    with pytest.raises(Invalid, match="cannot be changed once launched"):
        edit.differences(rollout, {"seed": 5}, {}, now=NOW)
    with pytest.raises(Invalid, match="shorter than the 10 minutes"):
        edit.differences(rollout, {"window_start": time(1), "window_end": time(1, 5)}, {}, now=NOW)


# -- audiences that move ---------------------------------------------------------------------------


def test_a_standing_audience_takes_in_who_joins_and_lets_go_who_leaves() -> None:
    first, second, third = make_devices(3)
    group = make_static("G", [first, second])
    rollout = launched(make_draft(group, follows_audience=True))
    assert [u.id for u in live_references(group)] == [rollout.pk]
    set_members(group, Device.objects.filter(pk__in=[first.pk, third.pk]), cause="moved", now=NOW)
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"offered": 2}
    tick_rollouts(now=NOW + timedelta(minutes=1))
    assert phases(rollout) == {"offered": 2, "withdrawn": 1}
    assert "1 devices joined, 1 left" in RecordEntry.objects.filter(sentence__contains="audience moved").get().sentence


def test_who_comes_back_to_a_standing_audience_goes_on_and_is_looked_at_anew() -> None:
    back, retired, stays, skipped = make_devices(4)
    everyone = Device.objects.filter(pk__in=[d.pk for d in (back, retired, stays, skipped)])
    group = make_static("G", list(everyone))
    rollout = launched(make_draft(group, follows_audience=True, starts_at=NOW + 9 * HOUR))
    devices.skip(rollout, [skipped.name], reason="on the bench", actor=None, now=NOW)
    set_members(group, Device.objects.filter(pk=stays.pk), now=NOW, cause="t")
    tick_rollouts(now=NOW + timedelta(minutes=1))
    assert phases(rollout) == {"withdrawn": 3, "waiting": 1}
    Device.objects.filter(pk=retired.pk).update(admission="retired")
    set_members(group, everyone, now=NOW, cause="t")
    tick_rollouts(now=NOW + timedelta(minutes=2))
    waiting = Delivery.objects.of_rollout(rollout.pk).filter(phase="waiting")
    assert {d.device_id for d in waiting} == {back.pk, stays.pk}  # whom a person skipped stays out
    causes = Delivery.objects.get(device=retired).events.order_by("-id").values_list("cause", flat=True)
    assert list(causes[:2]) == ["as it came back, retired", "is in the audience again"]


def test_a_fixed_audience_stays() -> None:
    group = make_static("G", make_devices(1))
    rollout = launched(make_draft(group))
    set_members(group, Device.objects.filter(pk=make_device().pk), cause="moved", now=NOW)
    tick_rollouts(now=NOW + HOUR)
    assert phases(rollout) == {"offered": 1}


def test_extending_sends_nothing_twice() -> None:
    one, two, three = make_devices(3)
    rollout = launched(make_draft(make_static("A", [one])))
    tick_rollouts(now=NOW)
    confirm_offered(rollout)
    Device.objects.filter(pk=three.pk).update(admission="waiting")
    more = make_static("B", [one, two, three])
    told = audience_sync.preview_extension(rollout, [more], now=NOW)
    assert (told.joins, told.already, told.left_out, told.has_already) == (1, 0, 1, 1)
    assert audience_sync.extend(rollout, [more], actor=None, now=NOW) == told
    tick_rollouts(now=NOW)
    assert phases(rollout) == {"confirmed": 1, "offered": 1}
    with pytest.raises(NobodyThere):
        audience_sync.extend(rollout, [more], actor=None, now=NOW)


# -- ring plans ------------------------------------------------------------------------------------


def test_a_plan_keeps_its_versions() -> None:
    rings = [{"name": "All", "kind": "rest"}]
    first = ring_plans.save_ring_plan("Careful", rings, actor=None, now=NOW)
    assert ring_plans.save_ring_plan("Careful", rings, actor=None, now=NOW) == first
    second = ring_plans.save_ring_plan("Careful", [*rings, *rings], actor=None, now=NOW)
    assert (first.number, second.number, len(first.rings)) == (1, 2, 1)
    plan = RingPlan.objects.get()
    ring_plans.delete_ring_plan(plan, actor=None, now=NOW)
    with pytest.raises(Conflict):
        ring_plans.delete_ring_plan(plan, actor=None, now=NOW)
    with clock.fixed(datetime(2026, 11, 24, tzinfo=UTC)):
        assert ring_plans.save_ring_plan("Careful", rings, actor=None, now=NOW).number == 3
