"""Days of several schedules at once, with devices that do as they like: nothing is offered twice, early, late or two at
once, and every firing is accounted for."""

import os
import random
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, date, datetime, time, timedelta
from typing import Any

import pytest
from django.db import connection

from herald.commands.compose import ScheduleDraft, change_schedule, create_schedule, draft_of
from herald.commands.models import LOCAL_FORM, CommandTemplate, LateChoice, Occurrence, OverlapChoice, Schedule, When
from herald.commands.turn import turn_schedules
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.fleet.models import Device
from herald.groups.audience import audience_query
from herald_core.deliveries import CLOSED, Event, Phase
from herald_core.simulation.schedules import Answer, SimSchedule, SimSchedules
from tests.factories import make_device, make_site, make_static

BEGIN = datetime(2026, 10, 24, 12, tzinfo=UTC)
#: two days over the end of summer time in Lisbon; `./herald test month` takes thirty
STEP, DAYS = timedelta(minutes=15), int(os.environ.get("HERALD_ACCOUNT_DAYS", "2"))
pytestmark = [pytest.mark.django_db, pytest.mark.timeout(1200 * max(1, DAYS // 8))]
ZONES = ("Europe/Lisbon", "Asia/Kolkata", "America/Santiago", "Australia/Lord_Howe")
KINDS: tuple[dict[str, Any], ...] = (
    {"rule": "FREQ=DAILY", "time_of_day": time(1, 30), "spread_minutes": 20},
    {"rule": "FREQ=HOURLY;INTERVAL=3", "time_of_day": time(0, 15), "expires_after_minutes": 60, "spread_minutes": 0},
    {"rule": "FREQ=DAILY;BYHOUR=4,16", "time_of_day": time(4), "late": LateChoice.RUN, "spread_minutes": 30},
    {"rule": "FREQ=DAILY", "time_of_day": time(22), "clock": "Asia/Kolkata", "overlap": OverlapChoice.SKIP},
    {"rule": "FREQ=WEEKLY;BYDAY=SU,MO", "time_of_day": time(2, 15), "at_once_per_site": 1},
    {
        "rule": "FREQ=HOURLY;COUNT=9",
        "starts_on": date(2026, 10, 24),
        "time_of_day": time(13),
        "expires_after_minutes": 30,
        "max_concurrent": 3,
    },
)


def make_schedules(devices: list[Device], kinds: Sequence[dict[str, Any]] = KINDS) -> list[Schedule]:
    made = []
    for n, kind in enumerate(kinds):
        template = CommandTemplate.objects.get(key=("restart", "report", "health-check")[n % 3])
        group = make_static(f"G{n}", devices[n:])
        fields = {"spread_minutes": 10, "expires_after_minutes": 90, "starts_on": date(2026, 10, 20), **kind}
        draft = ScheduleDraft(template=template, include=[group], when=When.REPEAT, **fields)
        made.append(create_schedule(draft, actor=None, now=BEGIN))
    return made


def act(rng: random.Random, now: datetime) -> None:
    """Some devices do something about what they were offered, or are at."""
    for delivery in Delivery.objects.in_hand().order_by("id"):
        mine = Delivery.objects.filter(pk=delivery.pk)
        if delivery.phase == "offered" and rng.random() < 0.5:
            deliveries.move(mine, Event.ACCEPT, now=now, cause="reported accepted")
        elif delivery.phase == "accepted" and rng.random() < 0.7:
            deliveries.move(mine, Event.RUN, now=now, cause="reported running")
        elif delivery.phase == "running" and rng.random() < 0.6:
            event = Event.CONFIRM if rng.random() < 0.9 else Event.FAIL
            deliveries.move(mine, event, now=now, cause="reported an end")


def moved(rng: random.Random, devices: list[Device]) -> None:
    """Now and then a device is carried to another zone."""
    if rng.random() < 0.01:
        Device.objects.filter(pk=rng.choice(devices).pk).update(time_zone=rng.choice(ZONES))


class Killed(BaseException):
    """As by kill -9: nothing of the program has a chance to do anything about it."""


@contextmanager
def killed_after(statements: int) -> Iterator[None]:
    """The clock dies at its so-manieth statement, and what was not committed by then is gone."""
    left = statements

    def count(execute: Any, sql: str, params: Any, many: bool, context: Any) -> Any:
        nonlocal left
        left -= 1
        if left < 0 and not sql.startswith("ROLLBACK"):  # which the database does by itself
            raise Killed
        return execute(sql, params, many, context)

    with suppress(Killed), connection.execute_wrapper(count):
        yield


@pytest.mark.parametrize("seed", [1, 2])
def test_every_firing_is_accounted_for(seed: int) -> None:
    rng = random.Random(seed)
    sites = [make_site(f"S{n}", zone) for n, zone in enumerate(ZONES)]
    devices = [make_device(site=sites[n % len(sites)]) for n in range(10)]
    schedules = make_schedules(devices)
    now, killed = BEGIN, 0
    while now < BEGIN + timedelta(days=DAYS):
        now += STEP if rng.random() < 0.98 else 6 * STEP  # the clock was away for an hour
        if rng.random() < 0.1:
            with killed_after(rng.randrange(60)):
                turn_schedules(now=now)
            killed += 1
        turn_schedules(now=now)
        deliveries.expire(now=now)
        act(rng, now)
        moved(rng, devices)
        if rng.random() < 0.01:
            schedule = Schedule.objects.get(pk=schedules[0].pk)
            change_schedule(schedule, draft_of(schedule), revision=schedule.revision, actor=None, now=now)
    offers = DeliveryEvent.objects.filter(to_phase="offered").select_related("delivery")
    assert offers.count() > 100
    assert killed > 5
    for event in offers:
        assert event.delivery.not_before <= event.at < event.delivery.not_after  # neither early nor late
    assert max(Counter(offers.values_list("delivery_id", flat=True)).values()) == 1  # nor twice
    once = Counter(Delivery.objects.values_list("occurrence__schedule", "occurrence__local_time", "device"))
    assert max(once.values()) == 1  # also where a device moved to a zone that fires later
    for occurrence in Occurrence.objects.all():
        assert Delivery.objects.filter(occurrence=occurrence).count() == occurrence.audience
    ended = [p.value for p in CLOSED]
    open_now = Delivery.objects.exclude(phase__in=ended)
    assert all((d.occurrence is not None and d.not_after > now) or d.phase == "running" for d in open_now)
    for delivery in Delivery.objects.filter(phase__in=ended).exclude(phase="expired"):
        assert delivery.events.exists()  # whatever ended says why
    for schedule in schedules[:2]:
        _nothing_is_missing(schedule, now)


def test_the_server_and_the_simulated_schedules_end_alike() -> None:
    """The same schedules on the same devices, in the database and in memory: the same offers, and the same ends."""
    sites = [make_site(f"S{n}", zone) for n, zone in enumerate(ZONES)]
    devices = [make_device(uid=str(n), site=sites[n % len(sites)]) for n in range(1, 9)]
    kinds = [k for k in KINDS if not k.keys() & {"at_once_per_site", "max_concurrent"}]  # caps are met in any order
    schedules = make_schedules(devices, kinds)
    ids = {d.pk: int(d.uid) for d in devices}
    simulated = SimSchedules(
        [_simulated(s, ids) for s in schedules],
        {int(d.uid): d.time_zone for d in devices},
        _answer,
        BEGIN,
        silence=timedelta(days=9),
    )
    index = {s.pk: n for n, s in enumerate(schedules)}
    now = BEGIN
    while now < BEGIN + timedelta(days=DAYS):
        now += STEP
        simulated.turn(now)
        turn_schedules(now=now)
        deliveries.expire(now=now)
        for delivery in Delivery.objects.in_hand().select_related("occurrence", "device").order_by("id"):
            _do_as_answered(delivery, index, now)
    offered = dict(DeliveryEvent.objects.filter(to_phase="offered").values_list("delivery_id", "at"))
    rows = Delivery.objects.select_related("occurrence", "device")
    on_server = {(_key(d, index), d.phase, offered.get(d.pk)) for d in rows}
    in_memory = {
        (
            (o.schedule, o.zone, o.local, o.device),
            o.phase.value,
            next((at for at, phase in o.notes if phase is Phase.OFFERED), None),
        )
        for o in simulated.orders
    }
    assert on_server == in_memory
    assert len(on_server) > 150


def _simulated(schedule: Schedule, ids: dict[int, int]) -> SimSchedule:
    recurrence = schedule.recurrence
    assert recurrence is not None
    return SimSchedule(
        key=f"schedule-{schedule.pk}",
        recurrence=recurrence,
        devices=frozenset(ids[d] for d in audience_query(schedule).values_list("pk", flat=True)),
        clock=schedule.clock,
        spread=timedelta(minutes=schedule.spread_minutes),
        expires_after=timedelta(minutes=schedule.expires_after_minutes),
        runs_late=schedule.late == LateChoice.RUN,
        skips_overlap=schedule.overlap == OverlapChoice.SKIP,
    )


def _answer(schedule: int, device: int, local: datetime) -> Answer:
    rng = random.Random(f"{schedule} {device} {local}")
    takes = None if rng.random() < 0.1 else timedelta(minutes=rng.expovariate(1 / 30))
    return Answer(takes=takes, runs=timedelta(minutes=rng.uniform(1, 40)), fails=rng.random() < 0.1)


def _key(delivery: Delivery, index: dict[int, int]) -> tuple[int, str, datetime, int]:
    occurrence = delivery.occurrence
    assert occurrence is not None
    local = datetime.strptime(occurrence.local_time, LOCAL_FORM)  # noqa: DTZ007  a local time
    return index[occurrence.schedule_id], occurrence.zone, local, int(delivery.device.uid)


def _do_as_answered(delivery: Delivery, index: dict[int, int], now: datetime) -> None:
    schedule, _, local, device = _key(delivery, index)
    answer, mine, since = (
        _answer(schedule, device, local),
        Delivery.objects.filter(pk=delivery.pk),
        now - delivery.phase_since,
    )
    if delivery.phase == "offered" and answer.takes is not None and since >= answer.takes:
        deliveries.move(mine, Event.RUN, now=now, cause="reported running")
    elif delivery.phase == "running" and answer.runs is not None and since >= answer.runs:
        deliveries.move(mine, Event.FAIL if answer.fails else Event.CONFIRM, now=now, cause="reported an end")


def _nothing_is_missing(schedule: Schedule, now: datetime) -> None:
    """Each time of the rule that is past in a zone has fired there, whether or not anybody was there."""
    fired = set(Occurrence.objects.filter(schedule=schedule, zone="Asia/Kolkata").values_list("fires_at", flat=True))
    recurrence = Schedule.objects.get(pk=schedule.pk).recurrence
    assert recurrence is not None
    offset = timedelta(hours=5, minutes=30)  # Kolkata has no clock changes
    due = {t.replace(tzinfo=UTC) - offset for t in _until(recurrence, now + offset)}
    assert {t for t in due if t > BEGIN} == fired


def _until(recurrence: Any, end: datetime) -> list[datetime]:
    found = []
    for moment in recurrence.times():
        if moment.replace(tzinfo=UTC) > end:
            break
        found.append(moment)
    return found
