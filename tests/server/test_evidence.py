"""Nothing is judged without evidence: silence that is none, ends that are late, devices lost after confirming."""

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from herald.clock import heartbeat
from herald.clock.conditions import refresh_conditions
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import When
from herald.commands.turn import turn_schedules
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.rollouts.engine.reconcile import reconcile
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.models import Rollout
from herald_core.deliveries import Event, Report
from herald_core.rings.assignment import RingKind
from herald_core.versions import version_key_or_none
from tests.factories import NOW, launched, make_devices, make_draft, make_site, make_static, restart, ring

pytestmark = pytest.mark.django_db
MINUTE, HOUR = timedelta(minutes=1), timedelta(hours=1)


def begun(event: Event = Event.INSTALL, count: int = 1, **fields: Any) -> list[Delivery]:
    """Devices with an order in hand that is as far as the event says, since NOW."""
    rollout = launched(make_draft(make_static("G", make_devices(count)), **{"max_attempts": 1, **fields}))
    tick_rollouts(now=NOW)
    deliveries.move(rollout.deliveries.all(), event, now=NOW, cause="reported")
    return list(rollout.deliveries.select_related("image", "device").order_by("id"))


def phase(delivery: Delivery) -> str:
    delivery.refresh_from_db()
    return delivery.phase


def says(delivery: Delivery, at: datetime, **fields: Any) -> None:
    """The device reports progress on its order."""
    delivery.refresh_from_db()
    report = Report(attempt=delivery.attempt, counter=delivery.report_counter + 1, **{"phase": "fetching", **fields})
    change = deliveries.evaluate_report(delivery, report, firmware="5.1.0", healthy=True, now=at)
    deliveries.apply_changes([change], now=at)
    Device.objects.filter(pk=delivery.device_id).update(last_check_in=at)


def runs(delivery: Delivery, version: str, at: datetime, *, healthy: bool = True) -> None:
    """The device calls on a version."""
    Device.objects.filter(pk=delivery.device_id).update(
        firmware=version, firmware_key=version_key_or_none(version), healthy=healthy, last_check_in=at
    )


# -- silence


def test_a_device_that_reports_progress_is_never_not_heard_of() -> None:
    (one,) = begun(Event.FETCH)
    for minutes in range(5, 600, 5):
        says(one, NOW + minutes * MINUTE, progress=minutes // 6)
        tick_rollouts(now=NOW + minutes * MINUTE)
    assert phase(one) == "fetching"


def test_a_device_that_fetches_in_silence_has_until_its_order_ends() -> None:
    (one,) = begun(Event.FETCH, window_start=(NOW - HOUR).time(), window_end=(NOW + 8 * HOUR).time())
    deadline = one.offer_until
    assert deadline is not None
    tick_rollouts(now=deadline + 59 * MINUTE)
    assert phase(one) == "fetching"
    tick_rollouts(now=deadline + 61 * MINUTE)
    assert (phase(one), one.last_error, one.attempt, one.max_attempts) == ("waiting", "not-fetched", 2, 2)


def test_a_device_that_fetches_and_is_silent_for_a_day_holds_no_place() -> None:
    (one,) = begun(Event.FETCH)  # at any hour, so its order stands for weeks
    Device.objects.update(last_check_in=NOW)
    tick_rollouts(now=NOW + 23 * HOUR)
    assert phase(one) == "fetching"
    tick_rollouts(now=NOW + 25 * HOUR)
    assert (phase(one), one.last_error) == ("waiting", "not-fetched")


def test_an_install_that_is_not_heard_of_fails_when_patience_is_over() -> None:
    (one,) = begun()
    tick_rollouts(now=NOW + 59 * MINUTE)
    assert phase(one) == "installing"
    tick_rollouts(now=NOW + 61 * MINUTE)
    assert (phase(one), one.last_error) == ("failed", "no-answer")


def test_patience_is_at_least_three_check_ins() -> None:
    (one,) = begun()
    Device.objects.update(check_in_interval_seconds=2 * 3600)
    tick_rollouts(now=NOW + 5 * HOUR)
    assert phase(one) == "installing"
    tick_rollouts(now=NOW + 6 * HOUR + MINUTE)
    assert phase(one) == "failed"


def test_a_device_that_calls_but_forgot_its_order_is_not_silent() -> None:
    (one,) = begun()
    for minutes in range(15, 240, 15):
        Device.objects.update(last_check_in=NOW + minutes * MINUTE)
        tick_rollouts(now=NOW + minutes * MINUTE)
    assert phase(one) == "installing"
    Device.objects.update(last_check_in=NOW + 241 * MINUTE)
    tick_rollouts(now=NOW + 241 * MINUTE)
    assert (phase(one), one.last_error) == ("failed", "no-progress")


def test_what_the_server_missed_while_it_was_away_is_held_against_nobody() -> None:
    (one,) = begun()
    real = datetime.now(UTC)
    heartbeat.beat(heartbeat.TURN, now=NOW, real_now=real - 60 * MINUTE)
    heartbeat.beat(heartbeat.TURN, now=NOW + 3 * HOUR, real_now=real)  # back after an hour
    tick_rollouts(now=NOW + 3 * HOUR)
    assert phase(one) == "installing"
    tick_rollouts(now=NOW + 4 * HOUR - MINUTE)
    assert phase(one) == "installing"
    tick_rollouts(now=NOW + 4 * HOUR + MINUTE)
    assert phase(one) == "failed"


def test_while_no_gateway_answers_nobody_is_given_up() -> None:
    (one,) = begun()
    heartbeat.beat(heartbeat.GATEWAY, now=NOW, real_now=datetime.now(UTC) - MINUTE)
    tick_rollouts(now=NOW + 9 * HOUR)
    assert phase(one) == "installing"


def test_a_fleet_that_is_cut_off_as_a_whole_is_not_given_up() -> None:
    (one,) = begun()
    make_devices(30, last_check_in=NOW)
    heartbeat.beat(heartbeat.GATEWAY, now=NOW)
    tick_rollouts(now=NOW + 2 * HOUR)
    assert phase(one) == "installing"
    refresh_conditions(now=NOW + 2 * HOUR)
    Device.objects.exclude(pk=one.device_id).update(last_check_in=NOW + 2 * HOUR)  # the line is back, but for one
    tick_rollouts(now=NOW + 2 * HOUR + 29 * MINUTE)
    assert phase(one) == "installing"
    Device.objects.exclude(pk=one.device_id).update(last_check_in=NOW + 3 * HOUR)
    tick_rollouts(now=NOW + 3 * HOUR + MINUTE)
    assert phase(one) == "failed"


def commanded() -> tuple[Delivery, list[Device]]:
    """A command that a device began, whose time is over after two hours, and the others of its fleet."""
    devices = make_devices(31, last_check_in=NOW)
    whom = {"template": restart(), "include": [make_static("One", devices[:1])], "when": When.NOW}
    create_schedule(ScheduleDraft(**whom, spread_minutes=0), actor=None, now=NOW)
    turn_schedules(now=NOW)
    deliveries.move(Delivery.objects.all(), Event.ACCEPT, now=NOW, cause="reported")
    return Delivery.objects.get(), devices[1:]


def test_a_command_that_is_not_heard_of_fails_when_its_time_and_patience_are_over() -> None:
    one, others = commanded()
    Device.objects.filter(pk__in=[d.pk for d in others]).update(last_check_in=NOW + 2 * HOUR)
    turn_schedules(now=NOW + 2 * HOUR - MINUTE)
    assert phase(one) == "accepted"
    turn_schedules(now=NOW + 2 * HOUR + MINUTE)
    assert (phase(one), one.last_error) == ("failed", "no-answer")


def test_a_device_that_calls_but_forgot_its_command_has_no_progress() -> None:
    one, _ = commanded()
    Device.objects.update(last_check_in=NOW + 2 * HOUR)
    turn_schedules(now=NOW + 2 * HOUR + MINUTE)
    assert (phase(one), one.last_error) == ("failed", "no-progress")


def test_a_command_is_not_held_against_a_device_that_calls_seldom() -> None:
    one, others = commanded()
    Device.objects.filter(pk=one.device_id).update(check_in_interval_seconds=6 * 3600)
    Device.objects.filter(pk__in=[d.pk for d in others]).update(last_check_in=NOW + 18 * HOUR)
    turn_schedules(now=NOW + 17 * HOUR)
    assert phase(one) == "accepted"
    turn_schedules(now=NOW + 18 * HOUR + MINUTE)
    assert phase(one) == "failed"


def test_commands_of_a_fleet_that_is_cut_off_as_a_whole_are_not_given_up() -> None:
    one, others = commanded()
    heartbeat.beat(heartbeat.GATEWAY, now=NOW)
    turn_schedules(now=NOW + 9 * HOUR)
    assert phase(one) == "accepted"
    refresh_conditions(now=NOW + 9 * HOUR)
    Device.objects.filter(pk__in=[d.pk for d in others]).update(last_check_in=NOW + 9 * HOUR)
    turn_schedules(now=NOW + 9 * HOUR + 59 * MINUTE)
    assert phase(one) == "accepted"
    Device.objects.filter(pk__in=[d.pk for d in others]).update(last_check_in=NOW + 10 * HOUR)
    turn_schedules(now=NOW + 10 * HOUR + MINUTE)
    assert phase(one) == "failed"


def test_while_no_gateway_answers_no_command_is_given_up() -> None:
    one, _ = commanded()
    heartbeat.beat(heartbeat.GATEWAY, now=NOW, real_now=datetime.now(UTC) - MINUTE)
    turn_schedules(now=NOW + 9 * HOUR)
    assert phase(one) == "accepted"


# -- what ends late but well


def test_a_failed_device_that_runs_the_version_after_all_is_confirmed_late() -> None:
    one, other = begun(count=2)
    tick_rollouts(now=NOW + 2 * HOUR)
    assert (phase(one), phase(other)) == ("failed", "failed")
    runs(one, "5.2.1", NOW + 3 * HOUR)
    runs(other, "5.1.0", NOW + 3 * HOUR)
    reconcile(now=NOW + 3 * HOUR)
    assert (phase(one), one.late, one.is_current_step) == ("confirmed", True, True)
    assert (phase(other), other.late) == ("failed", False)
    assert one.events.latest("id").cause == "runs the version after all"


def test_what_the_device_said_before_it_failed_confirms_nothing() -> None:
    (one,) = begun()
    runs(one, "5.2.1", NOW + MINUTE)
    deliveries.move(Delivery.objects.all(), Event.FAIL, now=NOW + HOUR, cause="x")
    reconcile(now=NOW + HOUR)
    assert phase(one) == "failed"
    runs(one, "5.2.1", NOW + 2 * HOUR, healthy=False)
    reconcile(now=NOW + 2 * HOUR)
    assert phase(one) == "failed"


def test_an_expired_device_is_confirmed_late_also_once_the_rollout_has_ended() -> None:
    rollout = launched(make_draft(make_static("G", make_devices(1)), expires_after_hours=1))
    deliveries.expire(now=NOW + HOUR)
    tick_rollouts(now=NOW + HOUR)
    one = rollout.deliveries.get()
    rollout.refresh_from_db()
    assert (one.phase, rollout.state) == ("expired", "finished")
    runs(one, "5.2.1", NOW + 2 * HOUR)
    reconcile(now=NOW + 2 * HOUR)
    assert phase(one) == "confirmed"


def test_a_late_confirmation_never_lifts_a_halt() -> None:
    one, other = begun(count=2)
    tick_rollouts(now=NOW + 2 * HOUR)
    tick_rollouts(now=NOW + 2 * HOUR)
    rollout = Rollout.objects.get()
    assert rollout.state == "halted"
    for delivery in (one, other):
        runs(delivery, "5.2.1", NOW + 3 * HOUR)
    reconcile(now=NOW + 3 * HOUR)
    tick_rollouts(now=NOW + 3 * HOUR)
    rollout.refresh_from_db()
    assert (phase(one), phase(other), rollout.state) == ("confirmed", "confirmed", "halted")


# -- lost after confirming


def soaking(count: int = 4, **fields: Any) -> tuple[Rollout, list[Delivery]]:
    """A rollout whose first ring of devices is confirmed and soaks."""
    devices = make_devices(count + 2)
    rings = [ring("First", RingKind.NUMBER, number=count, soak_minutes=600, **fields), ring("Rest")]
    rollout = launched(make_draft(make_static("G", devices), rings=rings, failure_limit_pct=40.0))
    tick_rollouts(now=NOW)
    first = rollout.deliveries.filter(ring__position=1)
    deliveries.move(first, Event.RETURN, now=NOW, cause="back")
    deliveries.move(first, Event.CONFIRM, now=NOW, cause="good")
    Device.objects.filter(deliveries__in=first).update(
        firmware="5.2.1", firmware_key=version_key_or_none("5.2.1"), last_check_in=NOW + MINUTE
    )
    return rollout, list(first.order_by("id"))


def lost(rollout: Rollout) -> list[str]:
    return sorted(rollout.deliveries.exclude(lost="").values_list("lost", flat=True))


def gate(rollout: Rollout) -> dict[str, float]:
    from herald.rollouts.watch import overview

    row = overview.rows([rollout], NOW)[0]["rings"][0]
    return {c["name"]: c["measured"] for c in row["criteria"]}


def test_confirmed_devices_that_are_well_are_not_lost() -> None:
    rollout, _ = soaking()
    reconcile(now=NOW + 5 * MINUTE)
    assert lost(rollout) == []
    assert gate(rollout)["confirmed"] == 1.0


def test_a_device_that_keeps_restarting_after_it_confirmed_is_lost() -> None:
    rollout, (restless, once, *_) = soaking()
    Device.objects.update(boots=7)
    reconcile(now=NOW + 5 * MINUTE)
    Device.objects.filter(pk=restless.device_id).update(boots=10)
    Device.objects.filter(pk=once.device_id).update(boots=9)
    reconcile(now=NOW + 6 * MINUTE)
    assert lost(rollout) == ["restarts"]
    assert gate(rollout)["failures"] == 0.25


def test_a_fault_another_version_or_silence_counts_as_failed_at_the_gate() -> None:
    rollout, (ill, back, quiet, _) = soaking()
    runs(ill, "5.2.1", NOW + 2 * HOUR, healthy=False)
    runs(back, "5.1.0", NOW + 2 * HOUR)
    Device.objects.exclude(pk__in=[ill.device_id, back.device_id, quiet.device_id]).update(last_check_in=NOW + 2 * HOUR)
    reconcile(now=NOW + 2 * HOUR)
    assert lost(rollout) == ["fault", "other-version", "silent"]
    assert (gate(rollout)["confirmed"], gate(rollout)["failures"]) == (0.25, 0.75)
    tick_rollouts(now=NOW + 2 * HOUR)
    rollout.refresh_from_db()
    assert rollout.state == "halted" and "3 of 4 tried failed" in rollout.reason


def test_who_is_well_again_counts_as_confirmed_again() -> None:
    rollout, (ill, *_) = soaking()
    runs(ill, "5.2.1", NOW + 5 * MINUTE, healthy=False)
    reconcile(now=NOW + 5 * MINUTE)
    assert lost(rollout) == ["fault"]
    runs(ill, "5.2.1", NOW + 8 * MINUTE)
    reconcile(now=NOW + 8 * MINUTE)
    assert lost(rollout) == [] and gate(rollout)["confirmed"] == 1.0
    assert [e.cause for e in ill.events.order_by("id")][-2:] == ["lost after confirming: fault", "is well again"]


def test_where_the_other_devices_of_the_site_fell_silent_too_the_image_is_not_to_blame() -> None:
    rollout, mine = soaking()
    there = make_site("There")
    Device.objects.filter(pk=mine[0].device_id).update(site=there)
    make_devices(3, site=there, last_check_in=NOW)
    Device.objects.exclude(site=there).update(last_check_in=NOW + 2 * HOUR)
    reconcile(now=NOW + 2 * HOUR)
    assert lost(rollout) == []
    Device.objects.filter(site=there).exclude(pk=mine[0].device_id).update(last_check_in=NOW + 2 * HOUR)
    reconcile(now=NOW + 2 * HOUR)
    assert lost(rollout) == ["silent"]


def test_silence_while_the_server_was_away_loses_nobody() -> None:
    rollout, _ = soaking()
    heartbeat.beat(heartbeat.GATEWAY, now=NOW + 2 * HOUR)
    reconcile(now=NOW + 2 * HOUR)
    assert lost(rollout) == []


def test_once_the_gate_is_met_nobody_is_lost_any_more() -> None:
    rollout, (ill, *_) = soaking()
    tick_rollouts(now=NOW + MINUTE)
    lifecycle.open_gate(rollout, actor=None, now=NOW + MINUTE)
    runs(ill, "5.2.1", NOW + HOUR, healthy=False)
    reconcile(now=NOW + HOUR)
    assert lost(rollout) == []


def test_a_ring_that_was_emptied_waits_for_a_person() -> None:
    devices = make_devices(4)
    rings = [ring("First", RingKind.NUMBER, number=2), ring("Rest")]
    rollout = launched(make_draft(make_static("G", devices), rings=rings))
    tick_rollouts(now=NOW)
    deliveries.withdraw(rollout.deliveries.filter(ring__position=1), now=NOW, cause="skipped")
    tick_rollouts(now=NOW + HOUR)
    assert not rollout.rings.get(position=2).opened_at
    from herald.rollouts.watch import overview

    row = overview.rows([Rollout.objects.get()], NOW + HOUR)[0]["rings"][0]
    assert row["stuck"] and {c["name"] for c in row["criteria"] if not c["met"]} == {"tried", "confirmed", "soak"}
