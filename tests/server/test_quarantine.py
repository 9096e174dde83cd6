"""No object stops the others: what fails in a turn of the clock is set aside, and everything else goes on."""

from datetime import time, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.attention.models import Item, Part, Quarantine
from herald.attention.quarantine import FIRST_PAUSE, Isolation
from herald.clock import loop
from herald.commands import compose
from herald.commands.models import Occurrence, Schedule, When
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.models import MembershipQueueEntry
from herald.groups import membership
from herald.groups.models import Group, GroupMembership, GroupReference
from herald.record.models import RecordEntry
from herald.rollouts.engine import tick
from herald.rollouts.models import Rollout
from herald.time import clock
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_image,
    make_rule_group,
    make_static,
    make_user,
    restart,
)

pytestmark = [pytest.mark.django_db, pytest.mark.quarantines]
MINUTE = timedelta(minutes=1)


def turn_at(now: Any) -> None:
    with clock.fixed(now):
        loop.turn(clock.now())


def poison(monkeypatch: pytest.MonkeyPatch, where: str, is_bad: Any) -> None:
    """Let a function fail for the objects that `is_bad` of its first argument names."""
    module, name = where.rsplit(".", 1)
    target = __import__(module, fromlist=[name])
    whole = getattr(target, name)

    def failing(first: Any, *args: Any, **kwargs: Any) -> Any:
        if is_bad(first):
            raise ValueError("planted")
        return whole(first, *args, **kwargs)

    monkeypatch.setattr(target, name, failing)


def daily(name: str) -> Schedule:
    draft = compose.ScheduleDraft(
        template=restart(),
        include=[make_static(name, make_devices(1))],
        when=When.REPEAT,
        rule="FREQ=DAILY",
        time_of_day=time(2, 30),
        spread_minutes=0,
    )
    return compose.create_schedule(draft, actor=None, now=NOW)


@pytest.mark.parametrize("step", ["sync_audience", "_turn", "offer"])
def test_a_rollout_that_fails_stops_no_other_rollout_and_no_schedule(
    monkeypatch: pytest.MonkeyPatch, step: str
) -> None:
    image = make_image()
    bad, good = (launched(make_draft(make_static(n, make_devices(2)), image)) for n in ("Bad", "Good"))
    schedule = daily("Daily")
    poison(monkeypatch, f"herald.rollouts.engine.tick.{step}", lambda r: r.pk == bad.pk)
    turn_at(NOW + 31 * MINUTE)
    assert set(good.deliveries.values_list("phase", flat=True)) == {"offered"}
    assert set(bad.deliveries.values_list("phase", flat=True)) == {"waiting"}
    assert Occurrence.objects.filter(schedule=schedule).exists()
    row = Quarantine.objects.get()
    assert (row.part, row.object_id, row.failures) == ("rollout", bad.pk, 1)
    assert "ValueError: planted" in row.cause and "failing" in row.trace


def test_a_schedule_that_fails_stops_no_other(monkeypatch: pytest.MonkeyPatch) -> None:
    bad, good = daily("Bad"), daily("Good")
    rollout = launched(make_draft(make_static("R", make_devices(1))))
    poison(monkeypatch, "herald.commands.turn.fire_due", lambda s: s.pk == bad.pk)
    turn_at(NOW + 31 * MINUTE)
    assert set(Occurrence.objects.values_list("schedule_id", flat=True)) == {good.pk}
    assert set(rollout.deliveries.values_list("phase", flat=True)) == {"offered"}
    assert Quarantine.objects.get().part == "schedule"


def test_a_delivery_that_fails_stops_no_other(monkeypatch: pytest.MonkeyPatch) -> None:
    rollout = launched(make_draft(make_static("G", make_devices(9)), expires_after_hours=1))
    bad = rollout.deliveries.order_by("id")[4].pk
    poison(monkeypatch, "herald.deliveries.services._moved", lambda rows: bad in [r[0] for r in rows])
    turn_at(NOW + timedelta(hours=2))
    assert set(rollout.deliveries.exclude(pk=bad).values_list("phase", flat=True)) == {"expired"}
    assert Delivery.objects.get(pk=bad).phase == "waiting"
    assert (Quarantine.objects.get().part, Quarantine.objects.get().object_id) == ("delivery", bad)


def test_a_group_whose_rule_cannot_be_read_keeps_its_members_and_the_others_follow() -> None:
    device = make_device(tags=["lab"])
    bad, good = make_rule_group("Bad", "tag = lab"), make_rule_group("Good", "tag = field")
    Group.objects.filter(pk=bad.pk).update(rule="gone_attribute = 1")
    device.tags = ["field"]
    device.save()
    MembershipQueueEntry.objects.note([device.pk], NOW)
    membership.process_changed_devices(now=NOW)
    assert set(GroupMembership.objects.values_list("group_id", flat=True)) == {bad.pk, good.pk}
    assert (Quarantine.objects.get().part, Quarantine.objects.get().object_id) == ("group", bad.pk)
    assert not MembershipQueueEntry.objects.exists()
    Group.objects.filter(pk=bad.pk).update(rule="tag = lab")
    membership.refresh_time_groups(now=NOW + FIRST_PAUSE)  # mended, it is evaluated whole
    assert set(GroupMembership.objects.values_list("group_id", flat=True)) == {good.pk}
    assert not Quarantine.objects.exists()


def test_groups_in_a_circle_are_set_aside() -> None:
    device = make_device(tags=["lab"])
    a, b = make_rule_group("A", "tag = x"), make_rule_group("B", "tag = y")
    good = make_rule_group("Good", "tag = field")
    GroupReference.objects.create(referrer=a, referred=b)
    GroupReference.objects.create(referrer=b, referred=a)
    device.tags = ["field"]
    device.save()
    MembershipQueueEntry.objects.note([device.pk], NOW)
    membership.process_changed_devices(now=NOW)
    assert GroupMembership.objects.get().group_id == good.pk
    assert {q.object_id for q in Quarantine.objects.all()} == {a.pk, b.pk}


def test_a_device_that_fails_keeps_its_mark_and_the_others_follow(monkeypatch: pytest.MonkeyPatch) -> None:
    group = make_rule_group("Lab", "tag = lab")
    devices = [make_device(tags=["lab"]) for _ in range(7)]
    bad = devices[3].pk
    MembershipQueueEntry.objects.note([d.pk for d in devices], NOW)
    poison(monkeypatch, "herald.groups.membership.reevaluate", lambda ids: bad in ids)
    membership.process_changed_devices(now=NOW)
    assert set(group.memberships.values_list("device_id", flat=True)) == {d.pk for d in devices} - {bad}
    assert list(MembershipQueueEntry.objects.values_list("device_id", flat=True)) == [bad]
    assert membership.process_changed_devices(now=NOW) == 0  # not taken up again and again
    monkeypatch.undo()
    assert membership.process_changed_devices(now=NOW + FIRST_PAUSE) == 1
    assert group.memberships.filter(device_id=bad).exists()
    assert not Quarantine.objects.exists() and not MembershipQueueEntry.objects.exists()


def test_a_device_in_an_unknown_zone_waits_and_stops_nobody() -> None:
    here, nowhere = make_devices(2)
    type(nowhere).objects.filter(pk=nowhere.pk).update(time_zone="Nowhere/Land")
    window = {"window_start": time(1), "window_end": time(5)}
    rollout = launched(make_draft(make_static("G", [here, nowhere]), **window))
    turn_at(NOW)
    assert dict(rollout.deliveries.values_list("device_id", "phase")) == {here.pk: "offered", nowhere.pk: "waiting"}
    assert not Quarantine.objects.exists()


def test_it_is_tried_again_after_pauses_that_double(monkeypatch: pytest.MonkeyPatch) -> None:
    bad = launched(make_draft(make_static("Bad", make_devices(1))))
    tried = []

    def failing(rollout: Rollout, *args: Any) -> None:
        tried.append(rollout.pk)
        raise ValueError("planted")

    monkeypatch.setattr(tick, "_turn", failing)
    for second in range(0, 60 * 16, 30):
        turn_at(NOW + timedelta(seconds=second))
    assert len(tried) == 5  # at 0, 1, 3, 7 and 15 minutes
    assert Quarantine.objects.get().failures == 5
    about = RecordEntry.objects.filter(kind="rollout", object_id=bad.pk, sentence__contains="quarantine")
    assert about.count() == 1
    assert Item.objects.open().count() == 1


def test_what_works_again_leaves_quarantine(monkeypatch: pytest.MonkeyPatch) -> None:
    rollout = launched(make_draft(make_static("Bad", make_devices(1))))
    poison(monkeypatch, "herald.rollouts.engine.tick.offer", lambda _: True)
    turn_at(NOW)
    assert Item.objects.open().get().object_id == rollout.pk
    monkeypatch.undo()
    turn_at(NOW + FIRST_PAUSE)
    assert set(rollout.deliveries.values_list("phase", flat=True)) == {"offered"}
    assert not Quarantine.objects.exists()
    assert Item.objects.get().closed_at == NOW + FIRST_PAUSE
    left = RecordEntry.objects.get(sentence__contains="left quarantine")
    assert (left.kind, left.object_id) == ("rollout", rollout.pk)


def test_a_person_sees_what_is_in_quarantine_and_has_it_tried_now(monkeypatch: pytest.MonkeyPatch) -> None:
    rollout = launched(make_draft(make_static("Bad", make_devices(1))))
    poison(monkeypatch, "herald.rollouts.engine.tick.offer", lambda _: True)
    turn_at(NOW)
    monkeypatch.undo()
    client = APIClient()
    client.force_authenticate(make_user())
    with clock.fixed(NOW + timedelta(seconds=5)):
        (row,) = client.get("/api/v1/quarantine").json()
        assert (row["part"], row["object_id"], row["failures"]) == ("rollout", rollout.pk, 1)
        (item,) = client.get("/api/v1/now").json()["attention"]
        assert (item["kind"], item["object_kind"], item["object_id"]) == ("quarantined", "rollout", rollout.pk)
        assert client.post(f"/api/v1/quarantine/{row['id']}/try").status_code == 204
        loop.turn(clock.now())
        assert client.get("/api/v1/quarantine").json() == []
        assert client.post(f"/api/v1/quarantine/{row['id']}/try").status_code == 404
    assert set(rollout.deliveries.values_list("phase", flat=True)) == {"offered"}


def test_work_that_failed_leaves_nothing_behind() -> None:
    device = make_device()

    def half_done() -> None:
        type(device).objects.filter(pk=device.pk).update(serial="half")
        raise ValueError("planted")

    assert Isolation(NOW).run(Part.DEVICE, device.pk, half_done) is None
    device.refresh_from_db()
    assert device.serial == ""


def test_a_batch_tries_each_object_that_failed_before_by_itself() -> None:
    seen: list[list[int]] = []

    def work(ids: Any) -> None:
        seen.append(list(ids))
        if 3 in ids:
            raise ValueError("planted")

    Isolation(NOW).run_batch(Part.DEVICE, range(1, 9), work)
    assert [3] in seen and Quarantine.objects.get().object_id == 3
    seen.clear()
    Isolation(NOW + FIRST_PAUSE).run_batch(Part.DEVICE, range(1, 9), work)
    assert seen == [[1, 2, 4, 5, 6, 7, 8], [3]]


def test_housekeeping_takes_up_no_more_than_it_can(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(deliveries, "BATCH_SIZE", 3)
    rollout = launched(make_draft(make_static("G", make_devices(5)), expires_after_hours=1))
    for expected in (3, 5):
        deliveries.expire(now=NOW + timedelta(hours=2))
        assert rollout.deliveries.filter(phase="expired").count() == expected
