"""A daily command for 100,000 devices at 05:30 device time: written zone by zone, and how level it is."""

import time
from collections import Counter
from datetime import UTC, datetime
from datetime import time as time_of_day
from itertools import islice

from django.db import connection

from bench.launch import everyone
from bench.results import emit, times_ms
from bench.world import ensure_world
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.firing import fire, firings_of
from herald.commands.models import CommandTemplate, Occurrence, Schedule, When
from herald.commands.turn import turn_schedules
from herald.commands.watch import answers_of, shares_of
from herald.deliveries.models import Delivery
from herald.fleet.models import Device

SPREAD_MINUTES = 20
SCHEDULES, TURN_MS = 200, 100


def run() -> None:
    """The firing in the largest zones, the minutes of its spread, its answers, and a turn that has nothing to fire."""
    ensure_world()
    now = datetime.now(UTC)
    Schedule.objects.all().delete()
    draft = ScheduleDraft(
        template=CommandTemplate.objects.get(key="restart"),
        include=[everyone(now)],
        when=When.REPEAT,
        rule="FREQ=DAILY",
        time_of_day=time_of_day(5, 30),
        spread_minutes=SPREAD_MINUTES,
    )
    schedule = create_schedule(draft, actor=None, now=now)
    worst = 0.0
    for zone in Device.objects.zones():
        [firing] = islice(firings_of(schedule, zone, after=now) or (), 1)
        started = time.perf_counter()
        devices = fire(schedule, zone, firing.at, now=firing.at, local=firing.local)
        took = time.perf_counter() - started
        worst = max(worst, took)
        emit("firing", f"{zone}: {devices} devices written", took, "s", target="<= 3 s", met=took <= 3)
        _level(zone, devices)
    written = Delivery.objects.of_schedule(schedule.pk).count()
    plain = _plain_copy(schedule.pk)
    emit(
        "firing", "the slowest zone", worst, "s", target="<= 3 s", met=worst <= 3,
        beside=f"INSERT … SELECT of all {written} rows, {plain:.2f} s", ratio=worst / plain,
    )  # fmt: skip
    _watched(schedule)
    _turns(now)
    Schedule.objects.all().delete()


def _level(zone: str, devices: int) -> None:
    """No minute of the spread has far more devices than the mean."""
    occurrence = Occurrence.objects.get(zone=zone)
    starts = Delivery.objects.filter(occurrence=occurrence).values_list("not_before", flat=True)
    per_minute = Counter((at - occurrence.fires_at).seconds // 60 for at in starts)
    ratio = max(per_minute.values()) / (devices / SPREAD_MINUTES)
    emit("firing", f"{zone}: the fullest minute, by the mean", ratio, "times", target="<= 1.5", met=ratio <= 1.5)


def _watched(schedule: Schedule) -> None:
    """What the page of a schedule asks for, with answers of all devices."""
    mine = Delivery.objects.of_schedule(schedule.pk)
    ids = list(mine.values_list("pk", flat=True))
    for answer, share in (("ok", slice(0, None, 2)), ("stale", slice(1, None, 2))):
        rows = Delivery.objects.filter(id__any=ids[share])
        rows.update(phase="confirmed", results={"answer": answer}, phase_since=schedule.created_at)
    occurrences = list(Occurrence.objects.filter(schedule=schedule).values_list("pk", flat=True))
    for what, work in (
        ("answers put together", lambda: answers_of(schedule, occurrences)),
        ("shares of 30 days", lambda: shares_of(schedule, datetime.now(UTC))),
    ):
        took = sorted(times_ms(work, 5))[2]
        emit("firing", f"{what}, {len(ids)} devices", took, "ms", target="<= 1000 ms", met=took <= 1000)


def _turns(now: datetime) -> None:
    """A turn of the clock with many schedules of which none fires."""
    draft = ScheduleDraft(
        template=CommandTemplate.objects.get(key="report"),
        include=[everyone(now)],
        when=When.REPEAT,
        rule="FREQ=WEEKLY;BYDAY=SU",
        time_of_day=time_of_day(4),
    )
    for _ in range(SCHEDULES):
        create_schedule(draft, actor=None, now=now)
    turn_schedules(now=now)
    took = sorted(times_ms(lambda: turn_schedules(now=now), 10))[5]
    emit(
        "firing", f"a turn with {SCHEDULES} schedules at rest", took, "ms",
        target=f"<= {TURN_MS} ms", met=took <= TURN_MS,
    )  # fmt: skip


def _plain_copy(schedule_id: int) -> float:
    """How long the database takes for the same rows in a table without checks and indexes."""
    with connection.cursor() as cursor:
        started = time.perf_counter()
        cursor.execute(
            "CREATE TEMP TABLE plain ON COMMIT PRESERVE ROWS AS SELECT d.* FROM deliveries_delivery d "
            "JOIN commands_occurrence o ON o.id = d.occurrence_id WHERE o.schedule_id = %s",
            [schedule_id],
        )
        took = time.perf_counter() - started
        cursor.execute("DROP TABLE plain")
    return took
