"""Forecasts: hours are cut as windows and freezes say, caps and gates are kept, and bands hold simulated ends."""

from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, datetime, time, timedelta

import numpy as np
import pytest
from bench.forecast import situation_of

from herald_core.capacity import Caps
from herald_core.forecast import Fleet, ForecastInputs, RemainingRing, forecast
from herald_core.forecast.engine import without
from herald_core.forecast.inputs import Limit, hours
from herald_core.rings.gates import GateSpec
from herald_core.simulation.fleet import Behaviour, make_fleet
from herald_core.simulation.rollout import SimPlan, SimRollout
from herald_core.timing.windows import Window

NOW = datetime(2026, 11, 23, 0, 0, tzinfo=UTC)
DAY = 86_400.0
ALWAYS = [np.array([[0.0, 14 * DAY]])]


def fleet(*rings: int, interval: float = 900.0, silent: bool = False) -> Fleet:
    count = len(rings)
    return Fleet(
        ring=np.array(rings),
        hours_of=np.zeros(count, dtype=np.int64),
        interval=np.full(count, interval),
        steps=np.ones(count, dtype=np.int64),
        ready=np.zeros(count),
        attempts=np.full(count, 2),
        silent=np.full(count, silent),
        with_file=np.zeros(count, dtype=bool),
        able_ahead=np.ones(count, dtype=bool),
        site=np.zeros(count, dtype=np.int64),
        place=np.linspace(0.0, 1.0, count, endpoint=False),
    )


def situation(devices: Fleet, rings: Sequence[RemainingRing] = (), **fields: object) -> ForecastInputs:
    whole: dict[str, object] = {
        "fleet": devices,
        "rings": rings or [RemainingRing(confirmed=0, failed=0, share=0.9, soak=0.0, open=True)],
        "hours": ALWAYS,
        "minutes": 10.0,
        "caps": Caps(max_concurrent=500),
        "max_attempts": 2,
        "failure_limit": 0.02,
        "horizon": 14 * DAY,
        "failure_rate": 0.0,
        **fields,
    }
    return ForecastInputs(**whole)  # type: ignore[arg-type]


def ring(soak: float = 0.0, **fields: object) -> RemainingRing:
    return RemainingRing(**{"confirmed": 0, "failed": 0, "share": 0.9, "soak": soak, **fields})  # type: ignore[arg-type]


def test_hours_end_early_enough_and_leave_freezes_out() -> None:
    nights = Window(start=time(1), end=time(4))
    freeze = (NOW + timedelta(hours=26), NOW + timedelta(hours=27))
    found = hours(nights, "UTC", [freeze], minutes=30, now=NOW, horizon=2 * DAY)
    assert (found / 3600).tolist() == [[1.0, 3.5], [25.0, 25.5], [27.0, 27.5]]
    assert hours(None, "UTC", [(NOW, NOW + timedelta(days=30))], minutes=5, now=NOW, horizon=DAY).shape == (0, 2)
    inside = hours(nights, "UTC", [], minutes=30, now=NOW + timedelta(hours=2), horizon=DAY / 2)
    assert (inside / 3600).tolist() == [[-1.0, 1.5]]  # begun an hour ago


def test_nothing_fails_nothing_waits() -> None:
    told = forecast(situation(fleet(*[0] * 50)), seed=1)
    assert 900 < told.end.low <= told.end.median <= told.end.high < 900 + 180 * 1.6 + 720 + 1
    assert told.curve[0][1:] == (0.0, 0.0, 0.0) and told.curve[-1][1:] == (50.0, 50.0, 50.0)
    assert told.halts == 0.0 and told.failed.high == 0.0


def test_a_ring_waits_for_the_soak_before_it_and_for_who_approves() -> None:
    rings = [ring(soak=7200.0, open=True, needs_approval=True), ring()]
    working = np.array([[10 * 3600.0, 18 * 3600.0]])
    told = forecast(situation(fleet(*[0] * 10, *[1] * 10), rings, working=working), seed=1)
    assert told.rings[0].opens.high == 0.0
    assert told.rings[1].opens.low == told.rings[1].opens.high == 10 * 3600.0
    assert told.end.low > 10 * 3600.0


def test_a_gate_that_lets_few_be_unheard_waits_for_the_slow_ones_and_for_the_silent() -> None:
    devices = fleet(*[0] * 20, *[1] * 5)
    devices.interval[:2] = 6 * 3600.0

    def opens(most: int | None) -> float:
        rings = [ring(share=0.5, open=True, max_unreached=most), ring()]
        return forecast(situation(devices, rings), seed=1).rings[1].opens.median

    assert opens(None) < 3600 < opens(1) < opens(0) < 7 * 3600.0
    assert opens(2) < 3600
    devices.silent[:1] = True
    assert opens(1) < 7 * 3600.0 and 2 * DAY < opens(0) <= 14 * DAY


def test_a_cap_takes_as_long_as_the_work_does() -> None:
    alone = forecast(situation(fleet(*[0] * 60, interval=60.0), caps=Caps(max_concurrent=1)), seed=1)
    work = 60 * (180 + 0.85 * 600)
    assert work * 0.9 < alone.end.median < work * 1.15


def test_limits_say_what_holds_it_back() -> None:
    rings = [ring(soak=3600.0, open=True), ring()]
    base = situation(fleet(*[0] * 10, *[1] * 30), rings, caps=Caps(max_concurrent=2))
    relaxed = {
        Limit.AT_ONCE: without(base, caps=Caps(max_concurrent=999)),
        Limit.SOAK: without(base, rings=[ring(open=True), ring()]),
    }
    told = forecast(base, seed=1, relaxed=relaxed)
    assert told.limits[Limit.AT_ONCE] > told.limits[Limit.SOAK] > 1800


def test_bad_images_halt_and_stuck_gates_never_end() -> None:
    told = forecast(situation(fleet(*[0] * 40), failure_rate=0.8), seed=1)
    assert told.halts > 0.95 and np.isinf(told.end.median)
    stuck = [ring(open=True, share=1.0), ring()]
    told = forecast(situation(fleet(*[0] * 5, *[1] * 5), stuck, failure_rate=0.9, failure_limit=0.999), seed=1)
    assert np.isinf(told.rings[1].opens.median) and np.isinf(told.end.median)


def test_silent_devices_are_not_waited_for_and_done_ones_count() -> None:
    devices = fleet(*[0] * 20)
    devices.silent[:3] = True
    told = forecast(situation(devices, [ring(open=True, confirmed=30, share=0.5)]), seed=1)
    assert told.end.high < DAY
    assert told.curve[0][2] == 30.0 and told.curve[-1][2] >= 47.0


@pytest.mark.parametrize("max_concurrent", [8, 200])
def test_the_band_holds_most_simulated_ends(max_concurrent: int) -> None:
    gates = [GateSpec(confirmed_share=0.9, failure_limit=0.5, soak=timedelta(hours=1))] * 2
    plan = SimPlan(rings=gates, caps=Caps(max_concurrent=max_concurrent), failure_limit=0.5, max_attempts=3)
    held = 0
    for number in range(20):
        sims = make_fleet(60, zones=("UTC",), rings=(0.3, 0.7), seed=number)
        told = forecast(replace(situation_of(plan, sims, NOW), failure_rate=0.02), seed=number)
        how = Behaviour(seed=number, failure_rate=0.02)
        ended = SimRollout(plan, sims, how, NOW, timedelta(minutes=1)).play(NOW + timedelta(days=9))
        assert ended.ended_at is not None
        held += told.end.low <= (ended.ended_at - NOW).total_seconds() <= told.end.high
    assert 11 <= held <= 20


def test_files_that_are_there_when_the_hours_open_take_no_time_then() -> None:
    nights = [hours(Window(start=time(1), end=time(4)), "UTC", [], minutes=10, now=NOW, horizon=DAY * 2)]
    devices = fleet(*[0] * 40, interval=600.0)
    slow = {"hours": nights, "fetch": 1500.0}
    fetched_then = forecast(situation(devices, **slow), seed=1)
    fetched_ahead = forecast(situation(devices, **slow, prefetch=True), seed=1)
    assert fetched_ahead.end.high < 3600 + 600 + 720 + 1 < fetched_then.end.low
    opened = [np.array([[0.0, 3 * 3600.0]])]  # no time ahead of the hours: only who has the file already is sooner
    late = forecast(situation(devices, hours=opened, fetch=1500.0, prefetch=True), seed=1)
    there = Fleet(**{**devices.__dict__, "with_file": np.ones(40, dtype=bool)})
    assert forecast(situation(there, hours=opened, fetch=1500.0), seed=1).end.high < 1320 < late.end.low
