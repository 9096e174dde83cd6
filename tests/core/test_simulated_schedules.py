"""A year of six schedules on fifty devices, in memory: no order is offered twice, early, late, or beside another one,
and every firing is accounted for with a reason."""

import random
from collections import Counter, defaultdict
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from herald_core.deliveries import OPEN, Phase
from herald_core.simulation.schedules import Answer, SimHold, SimOrder, SimSchedule, SimSchedules
from herald_core.timing.firings import LATE_FOR
from herald_core.timing.recurrence import Recurrence

BEGIN = datetime(2026, 1, 1, 9, tzinfo=UTC)
STEADY = "Asia/Kolkata"  # no clock change
ZONES = ("Europe/Lisbon", STEADY, "America/Santiago", "Australia/Lord_Howe", "Pacific/Chatham")
HOUR, MINUTE = timedelta(hours=1), timedelta(minutes=1)


def rule(text: str, hour: int, minute: int = 0) -> Recurrence:
    return Recurrence(start=datetime(2025, 12, 20, hour, minute), rule=text)  # noqa: DTZ001  a local time


def six(devices: list[int], freezes: tuple[SimHold, ...]) -> list[SimSchedule]:
    """Schedules that meet each other: nightly, by the hour, late, skipping, monthly, and by one clock."""
    return [
        SimSchedule(key="a", recurrence=rule("FREQ=DAILY", 1, 30), devices=frozenset(devices), spread=20 * MINUTE),
        SimSchedule(
            key="b",
            recurrence=rule("FREQ=HOURLY;INTERVAL=6", 0, 15),
            devices=frozenset(devices[::2]),
            expires_after=HOUR,
            skips_overlap=True,
        ),
        SimSchedule(
            key="c",
            recurrence=rule("FREQ=DAILY;BYHOUR=4,16", 4),
            devices=frozenset(devices[5:]),
            spread=30 * MINUTE,
            runs_late=True,
        ),
        SimSchedule(
            key="d",
            recurrence=rule("FREQ=WEEKLY;BYDAY=SU,MO", 2, 15),
            devices=frozenset(devices),
            per_site=2,
            drops_in_freeze=True,
            freezes=freezes,
        ),
        SimSchedule(
            key="e",
            recurrence=rule("FREQ=MONTHLY;BYMONTHDAY=-1", 23),
            devices=frozenset(devices[::3]),
            freezes=freezes,
            max_concurrent=3,
            expires_after=12 * HOUR,
        ),
        SimSchedule(key="f", recurrence=rule("FREQ=DAILY", 2), devices=frozenset(devices[:30]), clock="Europe/Lisbon"),
    ]


class Fleet:
    """Devices that take and end orders as they like: some slowly, some never, some only when they are back."""

    def __init__(self, seed: int, count: int) -> None:
        self.seed = seed
        self.devices = list(range(1, count + 1))
        self.zones = {d: ZONES[d % len(ZONES)] for d in self.devices}
        self.sites = {d: d % 7 for d in self.devices if d % 11}
        rng = random.Random(f"installs {seed}")
        moments = [BEGIN + timedelta(hours=rng.uniform(0, 365 * 24)) for _ in range(40)]
        self.installs = [
            SimHold(
                start=at, end=at + timedelta(hours=rng.uniform(0.2, 9)), devices=frozenset(rng.sample(self.devices, 8))
            )
            for at in moments
        ]
        spring = BEGIN + timedelta(days=80)
        held = frozenset(self.devices[: count // 2])
        self._answers: dict[tuple[int, int, datetime], Answer] = {}
        self.freezes = (SimHold(start=spring, end=spring + timedelta(days=21), devices=held),)

    def answer(self, schedule: int, device: int, local: datetime) -> Answer:
        key = (schedule, device, local)
        if key not in self._answers:
            self._answers[key] = self._drawn(*key)
        return self._answers[key]

    def _drawn(self, schedule: int, device: int, local: datetime) -> Answer:
        rng = random.Random(f"{self.seed} {schedule} {device} {local}")
        mood = rng.random()
        if mood < 0.03:
            return Answer(takes=None)
        if mood < 0.05:
            return Answer(takes=5 * MINUTE, runs=None)
        return Answer(
            takes=timedelta(minutes=rng.expovariate(1 / 25)),
            runs=timedelta(minutes=rng.uniform(1, 40)),
            fails=mood > 0.93,
        )


def play(fleet: Fleet, schedules: list[SimSchedule], days: float, *, step: timedelta) -> tuple[SimSchedules, datetime]:
    rng = random.Random(f"turns {fleet.seed}")
    simulated = SimSchedules(schedules, fleet.zones, fleet.answer, BEGIN, sites=fleet.sites, installs=fleet.installs)
    now, end = BEGIN, BEGIN + timedelta(days=days)
    while now < end:
        now += step if rng.random() < 0.995 else rng.randrange(2, 20) * step  # the clock was away
        simulated.turn(now)
    return simulated, now


def offers_of(order: SimOrder) -> list[datetime]:
    return [at for at, phase in order.notes if phase is Phase.OFFERED]


def check(simulated: SimSchedules, fleet: Fleet, now: datetime) -> None:
    """What must hold, read from the notes of each order and not from the engine."""
    held: defaultdict[int, list[tuple[datetime, datetime]]] = defaultdict(list)
    for order in simulated.orders:
        offers = offers_of(order)
        assert len(offers) <= 1
        assert all(order.not_before <= at < order.not_after for at in offers)
        if order.phase in OPEN:
            assert order.phase is Phase.RUNNING or order.not_after > now
        else:
            assert order.reason, order
        if offers:
            ended = [at for at, phase in order.notes if phase not in OPEN]
            held[order.device].append((offers[0], ended[0] if ended else datetime.max.replace(tzinfo=UTC)))
        holds = [h for s in (simulated.schedules[order.schedule],) for h in s.freezes]
        assert not any(h.holds(order.device, at) for at in offers for h in (*holds, *fleet.installs))
    for spans in held.values():
        spans.sort()
        for (_, ended), (begins, _) in pairwise(spans):
            assert ended <= begins
    once = Counter((o.schedule, o.local, o.device) for o in simulated.orders)
    assert max(once.values(), default=1) == 1
    _all_are_accounted_for(simulated, fleet)


def _all_are_accounted_for(simulated: SimSchedules, fleet: Fleet) -> None:
    orders = Counter((o.schedule, o.zone, o.local) for o in simulated.orders)
    for firing in simulated.firings:
        devices = simulated.schedules[firing.schedule].devices
        here = [d for d in devices if firing.zone in ("*", fleet.zones[d])]
        assert orders[firing.schedule, firing.zone, firing.local] == firing.orders
        assert firing.orders + firing.frozen + firing.overlapping == len(here)


def test_a_year_of_fifty_devices_and_six_schedules() -> None:
    fleet = Fleet(seed=20261129, count=50)
    schedules = six(fleet.devices, fleet.freezes)
    simulated, now = play(fleet, schedules, 365, step=30 * MINUTE)
    check(simulated, fleet, now)
    ends = Counter(o.phase for o in simulated.orders)
    assert set(ends) >= {Phase.CONFIRMED, Phase.FAILED, Phase.EXPIRED, Phase.SUPERSEDED}
    assert ends[Phase.CONFIRMED] > 0.6 * sum(ends.values()), ends
    assert sum(f.frozen for f in simulated.firings) > 100
    assert sum(f.overlapping for f in simulated.firings) > 0
    late = [
        o
        for o in simulated.orders
        if o.schedule == 2 and o.not_before + 2 * HOUR < min(offers_of(o), default=o.not_before)
    ]
    assert late  # who comes back runs it then
    assert all(min(offers_of(o)) < o.not_before + LATE_FOR + 2 * HOUR for o in late)
    # where the clock never changes, each time of the rule has fired once, counted without the engine
    for index, schedule in enumerate(schedules[:5]):
        fired = [f.local for f in simulated.firings if (f.schedule, f.zone) == (index, STEADY)]
        assert fired == _due(schedule.recurrence, now)


def _due(recurrence: Recurrence, now: datetime) -> list[datetime]:
    zone, found = ZoneInfo(STEADY), []
    for local in recurrence.times():
        at = local.replace(tzinfo=zone).astimezone(UTC)
        if at > now:
            break
        if at > BEGIN:
            found.append(local)
    return found


def test_each_zone_fires_once_a_day_over_its_clock_changes() -> None:
    fleet = Fleet(seed=7, count=10)
    nightly = SimSchedule(key="n", recurrence=rule("FREQ=DAILY", 2, 15), devices=frozenset(fleet.devices))
    simulated, _ = play(fleet, [nightly], 365, step=HOUR)
    for zone in ZONES:
        days = Counter(f.at.astimezone(ZoneInfo(zone)).date() for f in simulated.firings if f.zone == zone)
        assert set(days.values()) == {1}
        assert len(days) >= 364


RULES = st.sampled_from(
    ["FREQ=DAILY", "FREQ=HOURLY", "FREQ=HOURLY;INTERVAL=5", "FREQ=WEEKLY;BYDAY=MO,TU,SA", "FREQ=DAILY;COUNT=9"]
)
SCHEDULES = st.builds(
    lambda text, hour, spread, expires, late, skips, drops, most, site: {
        "recurrence": rule(text, hour),
        "spread": spread * MINUTE,
        "expires_after": expires * MINUTE,
        "runs_late": late,
        "skips_overlap": skips,
        "drops_in_freeze": drops,
        "max_concurrent": most,
        "per_site": site,
    },
    RULES,
    st.integers(0, 23),
    st.integers(0, 90),
    st.integers(5, 600),
    st.booleans(),
    st.booleans(),
    st.booleans(),
    st.integers(1, 12),
    st.none() | st.integers(1, 3),
)


@given(chosen=st.lists(SCHEDULES, min_size=1, max_size=4), seed=st.integers(0, 10**6))
@settings(max_examples=40)
def test_any_schedules_keep_their_promises_for_a_week(chosen: list[dict[str, object]], seed: int) -> None:
    fleet = Fleet(seed=seed, count=12)
    rng = random.Random(seed)
    freeze = SimHold(
        start=BEGIN + timedelta(days=2), end=BEGIN + timedelta(days=3), devices=frozenset(fleet.devices[:6])
    )
    schedules = [
        SimSchedule(key=f"s{n}", devices=frozenset(rng.sample(fleet.devices, 8)), freezes=(freeze,), **fields)  # type: ignore[arg-type]
        for n, fields in enumerate(chosen)
    ]
    simulated, now = play(fleet, schedules, 7, step=rng.choice((10, 25, 60)) * MINUTE)
    check(simulated, fleet, now)


@pytest.mark.parametrize("late", [False, True])
def test_who_comes_back_late_runs_it_only_where_the_schedule_says_so(late: bool) -> None:
    once = Recurrence(start=datetime(2026, 1, 2, 3))  # noqa: DTZ001  a local time
    schedule = SimSchedule(key="s", recurrence=once, devices=frozenset({1}), clock="UTC", runs_late=late)
    back = datetime(2026, 1, 9, tzinfo=UTC)
    at_work = SimHold(start=BEGIN, end=back, devices=frozenset({1}))
    simulated = SimSchedules([schedule], {1: "UTC"}, lambda *_: Answer(takes=MINUTE), BEGIN, installs=[at_work])
    now = BEGIN
    while now < back + HOUR:
        now += 10 * MINUTE
        simulated.turn(now)
    [order] = simulated.orders
    assert order.phase is (Phase.CONFIRMED if late else Phase.EXPIRED)
    assert [at >= back for at in offers_of(order)] == [True] * late
