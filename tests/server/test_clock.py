"""The installation's time, the clock's loops, and housekeeping."""

import threading
from datetime import UTC, datetime, time, timedelta
from io import StringIO
from typing import Any

import psycopg
import pytest
from django.core.management import CommandError, call_command
from django.db import IntegrityError, OperationalError, connection, transaction

from herald.clock import loop
from herald.clock.models import Heartbeat, TimeBase
from herald.clock.rest import LONGEST_REST, Rest
from herald.clock.start import rebase
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import Occurrence, When
from herald.deliveries.models import Delivery
from herald.fleet.models import MembershipQueueEntry
from herald.groups.models import GroupMembership
from herald.live.notify import notify
from herald.rollouts.engine import tick as turn_of_rollouts
from herald.rollouts.models import Rollout
from herald.time import Clock, clock
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

REAL = datetime(2026, 11, 23, tzinfo=UTC)


@pytest.mark.django_db
def test_without_a_base_time_is_the_machines_own() -> None:
    own = Clock()
    assert abs(own.now() - datetime.now(UTC)) < timedelta(seconds=2)
    assert own.speed == 1


@pytest.mark.django_db
def test_time_passes_faster_from_where_it_was() -> None:
    rebase(speed=60, real_now=REAL)
    base = Clock().base()
    assert base.at(REAL + timedelta(minutes=1)) == REAL + timedelta(hours=1)
    TimeBase.objects.update(last_seen=REAL + timedelta(days=3))
    rebase(speed=10, real_now=REAL + timedelta(hours=1))
    later = Clock().base()
    assert later.at(REAL + timedelta(hours=1)) > REAL + timedelta(days=3)  # a restart never goes back
    assert later.speed == 10
    clock.forget()


@pytest.mark.django_db
def test_there_is_one_base_and_time_never_stands_still() -> None:
    rebase(speed=1, real_now=REAL)
    for change in ({"id": 2}, {"speed": 0}):
        with pytest.raises(IntegrityError), transaction.atomic():
            TimeBase.objects.update(**change)
    clock.forget()


@pytest.mark.django_db
def test_one_turn_does_all_that_time_brings() -> None:
    rollout = launched(make_draft(make_static("G", make_devices(2)), expires_after_hours=1))
    with clock.fixed(NOW):
        loop.turn(clock.now())
    assert set(rollout.deliveries.values_list("phase", flat=True)) == {"offered"}
    with clock.fixed(NOW + timedelta(hours=1)):
        loop.turn(clock.now())
    rollout.refresh_from_db()
    assert set(rollout.deliveries.values_list("phase", flat=True)) == {"expired"}
    assert rollout.state == "finished"


@pytest.mark.django_db(transaction=True)
def test_the_clock_rests_until_something_is_told_or_due() -> None:
    rest, after = Rest(), NOW + timedelta(seconds=1)
    assert rest.is_over(NOW)  # it has just begun to listen, and knows nothing
    rest.begin(NOW, None)
    assert not rest.is_over(after)
    notify("rollout", 1)
    assert rest.is_over(after)
    rest.begin(NOW, None)
    with transaction.atomic():
        notify("rollout", 1)
        transaction.set_rollback(True)
    assert not rest.is_over(after)
    assert rest.is_over(NOW + LONGEST_REST)
    assert rest.is_over(NOW - timedelta(seconds=1))  # a clock that was set back
    rest.begin(NOW, after)
    assert not rest.is_over(NOW)
    assert rest.is_over(after)
    rest.begin(NOW, None)
    notify("rollout", 1)
    assert rest.is_over(after)
    assert rest.is_over(after)  # the turn failed: what it was told of is still to be done
    rest.begin(NOW, None)
    connection.close()
    assert rest.is_over(after)  # on a new connection, as nobody knows what was told meanwhile


@pytest.mark.django_db
def test_a_turn_says_when_the_next_firing_is_and_whether_something_was_left() -> None:
    assert loop.turn(NOW) is None
    group = make_static("G", make_devices(2))
    draft = ScheduleDraft(
        template=restart(), include=[group], when=When.REPEAT, rule="FREQ=DAILY", time_of_day=time(3, 0)
    )
    create_schedule(draft, actor=None, now=NOW)
    firing = loop.turn(NOW)
    assert firing is not None
    assert NOW < firing <= NOW + timedelta(days=1)
    assert loop.turn(firing - timedelta(seconds=1)) == firing
    assert Occurrence.objects.count() == 0
    assert loop.turn(firing) == firing + timedelta(days=1)
    assert Occurrence.objects.count() == 1


@pytest.mark.django_db
def test_a_turn_whose_time_was_up_is_followed_by_another_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    image = make_image()
    for n in range(2):
        launched(make_draft(make_static(f"G{n}", make_devices(2)), image))
    assert loop.turn(NOW) is None
    monkeypatch.setattr(turn_of_rollouts, "TURN_BUDGET_SECONDS", 0.0)
    Delivery.objects.update(phase="waiting", offer_until=None)
    assert loop.turn(NOW) == NOW


@pytest.mark.django_db
def test_what_was_put_off_is_tried_at_the_next_turn(monkeypatch: pytest.MonkeyPatch) -> None:
    launched(make_draft(make_static("G", make_devices(2))))

    def deadlock(*_: object, **__: object) -> None:
        raise OperationalError("deadlock detected") from psycopg.errors.DeadlockDetected()

    monkeypatch.setattr(turn_of_rollouts, "offer", deadlock)
    assert loop.turn(NOW) == NOW


@pytest.mark.django_db
def test_the_follower_drains_marks_and_refreshes_time_groups() -> None:
    device = make_device(tags=["lab"])
    make_rule_group("Lab", "tag = lab")
    make_rule_group("Late", "presence = late")
    GroupMembership.objects.all().delete()
    MembershipQueueEntry.objects.note([device.pk], NOW)
    with clock.fixed(NOW + timedelta(hours=2)):
        loop._MembershipWorker()()
    assert set(GroupMembership.objects.values_list("group__name", flat=True)) == {"Lab", "Late"}
    assert MembershipQueueEntry.objects.count() == 0


@pytest.mark.django_db(transaction=True)
def test_of_two_clocks_one_works() -> None:
    led: list[bool] = []

    def other() -> None:
        from django.db import connection

        led.append(loop._acquire_leadership(990_001))
        connection.close()

    assert loop._acquire_leadership(990_001)
    thread = threading.Thread(target=other)
    thread.start()
    thread.join()
    assert led == [False]


@pytest.mark.django_db(transaction=True)
def test_a_loop_goes_on_after_a_turn_that_failed() -> None:
    stop, calls = threading.Event(), []

    def work() -> float:
        calls.append(1)
        if len(calls) == 1:
            raise ValueError("one rollout's trouble")
        stop.set()
        return 0.01

    thread = threading.Thread(target=loop._loop, args=("turn", work, stop))
    thread.start()
    thread.join(20)
    assert len(calls) == 2
    assert Heartbeat.objects.filter(name="turn").exists()


@pytest.mark.django_db
def test_the_job_of_launching_is_queued_with_the_launch_and_safe_to_repeat() -> None:
    from procrastinate.contrib.django.models import ProcrastinateJob

    from herald.rollouts.launch import launching
    from herald.rollouts.tasks import carry_out_launch

    rollout = make_draft(make_static("G", make_devices(2)))
    launching.request_launch(rollout, expected=2, actor=None, now=NOW)
    job = ProcrastinateJob.objects.get(status="todo")
    assert (job.task_name, job.args, job.lock) == (
        carry_out_launch.name,
        {"rollout_id": rollout.pk},
        f"rollout:{rollout.pk}",
    )
    for _ in range(2):
        carry_out_launch.func(None, **job.args)
    carry_out_launch.func(None, rollout_id=999_999)
    assert Rollout.objects.get().state == "running"
    assert rollout.deliveries.count() == 2


@pytest.mark.django_db
def test_a_refused_launch_queues_nothing() -> None:
    from procrastinate.contrib.django.models import ProcrastinateJob

    from herald.http.errors import CountMismatch
    from herald.rollouts.launch import launching

    rollout = make_draft(make_static("G", make_devices(2)))
    with pytest.raises(CountMismatch):
        launching.request_launch(rollout, expected=7, actor=None, now=NOW)
    assert not ProcrastinateJob.objects.exists()


@pytest.mark.django_db
def test_the_token_command_prints_a_token_that_works_or_who_is_known(client: Any) -> None:
    user = make_user()
    out = StringIO()
    call_command("make_token", user.email.upper(), stdout=out)
    header = {"HTTP_AUTHORIZATION": f"Bearer {out.getvalue().strip()}"}
    assert client.get("/api/v1/groups", **header).status_code == 200
    with pytest.raises(CommandError, match=user.email):
        call_command("make_token", "nobody@example.com")
