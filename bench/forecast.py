"""How true the forecast is: the 80% band against simulated rollouts; and how long it takes."""

import random
import statistics
import time
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from datetime import time as clock_time

import numpy as np

from bench.results import emit
from herald_core.capacity import Caps
from herald_core.forecast import Fleet, Forecast, ForecastInputs, RemainingRing, forecast
from herald_core.forecast.inputs import hours
from herald_core.rings.gates import GateSpec
from herald_core.simulation.fleet import Behaviour, SimDevice, make_fleet
from herald_core.simulation.rollout import SimFreeze, SimPlan, SimRollout
from herald_core.timing.windows import Window

ROLLOUTS = 200
TURN = timedelta(minutes=1)
HORIZON = timedelta(days=14)
ZONES = ("Australia/Adelaide", "Asia/Kolkata", "Africa/Nairobi", "Europe/Lisbon", "America/Santiago")
SHARES = (0.1, 0.3, 0.6)


def situation_of(plan: SimPlan, devices: list[SimDevice], start: datetime) -> ForecastInputs:
    """What a forecast knows of a simulated rollout at its launch: everything but how devices will behave."""
    kinds = sorted({(d.zone, d.group) for d in devices})
    horizon = HORIZON.total_seconds()
    of_kind = [
        hours(
            plan.window,
            zone,
            [(f.start, f.end) for f in plan.freezes if f.everywhere or marked],
            minutes=plan.minutes,
            now=start,
            horizon=horizon,
        )
        for zone, marked in kinds
    ]
    fleet = Fleet(
        ring=np.array([d.ring for d in devices]),
        hours_of=np.array([kinds.index((d.zone, d.group)) for d in devices]),
        interval=np.array([d.interval.total_seconds() for d in devices]),
        steps=np.ones(len(devices), dtype=np.int64),
        ready=np.zeros(len(devices)),
        attempts=np.full(len(devices), plan.max_attempts),
        silent=np.zeros(len(devices), dtype=bool),
        with_file=np.zeros(len(devices), dtype=bool),
        able_ahead=np.array([d.able_ahead for d in devices], dtype=bool),
        site=np.array([d.site for d in devices]),
        place=np.array([d.place for d in devices]),
    )
    return ForecastInputs(
        fleet=fleet,
        rings=[
            RemainingRing(
                confirmed=0,
                failed=0,
                share=g.confirmed_share,
                soak=g.soak.total_seconds(),
                open=i == 0,
                max_unreached=g.max_unreached,
            )
            for i, g in enumerate(plan.rings)
        ],
        hours=of_kind,
        minutes=plan.minutes,
        caps=plan.caps,
        spread=plan.spread.total_seconds(),
        max_attempts=plan.max_attempts,
        failure_limit=plan.failure_limit,
        horizon=horizon,
        turn=TURN.total_seconds(),
        soak=plan.soak.total_seconds(),
    )


def run() -> None:
    """Calibration over simulated rollouts, then the time for 2,500 and 100,000 devices."""
    inside = [_holds(number) for number in range(ROLLOUTS)]
    share = sum(inside) / len(inside)
    emit(
        "forecast",
        f"80% bands that hold the true end, of {ROLLOUTS} rollouts",
        share,
        "share",
        target="0.74 to 0.86",
        met=0.74 <= share <= 0.86,
    )
    start = datetime(2026, 11, 23, 12, tzinfo=UTC)
    usual = Caps(uplinks=dict.fromkeys(range(6), 20))
    for words, caps in (("", usual), (", with every cap", replace(usual, per_site=20, per_hour=400))):
        plan = replace(_plan(random.Random(1), start)[0], caps=caps, spread=timedelta(minutes=15))
        for count, limit in ((2_500, 0.3), (100_000, 3.0)):
            situation = situation_of(plan, make_fleet(count, zones=ZONES, rings=SHARES, seed=1), start)
            took = statistics.median(_seconds(situation, seed) for seed in range(5))
            what = f"200 futures of {count} devices{words}"
            emit("forecast", what, took, "s", target=f"<= {limit} s", met=took <= limit)


def _seconds(situation: ForecastInputs, seed: int) -> float:
    began = time.perf_counter()
    forecast(situation, seed=seed)
    return time.perf_counter() - began


def _plan(rng: random.Random, start: datetime) -> tuple[SimPlan, Behaviour]:
    begins = rng.randrange(24)
    freezes = []
    if rng.random() < 0.3:
        first = start + timedelta(hours=rng.uniform(10, 60))
        freezes.append(SimFreeze(start=first, end=first + timedelta(hours=rng.uniform(6, 48)), everywhere=False))
    minutes = rng.choice([6, 10, 14])
    plan = SimPlan(
        rings=[
            GateSpec(
                confirmed_share=rng.choice([0.8, 0.9, 0.95]),
                failure_limit=0.2,
                soak=timedelta(minutes=rng.choice([30, 60, 240])),
                max_unreached=rng.choice([None, None, 0, 5]),
            )
            for _ in SHARES
        ],
        window=Window(start=clock_time(begins), end=clock_time((begins + rng.randrange(2, 7)) % 24))
        if rng.random() < 0.6
        else None,
        freezes=freezes,
        caps=Caps(
            max_concurrent=rng.choice([10, 40, 200]),
            per_site=rng.choice([None, None, 3, 8]),
            per_hour=rng.choice([None, None, 15, 60]),
            uplinks={0: rng.choice([1, 3])} if rng.random() < 0.5 else {},
        ),
        spread=timedelta(minutes=rng.choice([0, 20, 60])),
        max_attempts=rng.choice([1, 2, 3]),
        minutes=minutes,
        failure_limit=0.2,
    )
    rate = float(np.random.default_rng(rng.randrange(2**32)).beta(0.5, 24.5))
    return plan, Behaviour(seed=rng.randrange(2**32), minutes=minutes, failure_rate=rate)


def _holds(number: int) -> bool:
    """Whether the band of the end, given at the launch, holds the true end."""
    rng = random.Random(f"forecast {number}")
    start = datetime(2026, 3, 20, tzinfo=UTC) + timedelta(hours=rng.randrange(24 * 300))
    plan, behaviour = _plan(rng, start)
    devices = make_fleet(rng.choice([60, 150, 400]), zones=ZONES, rings=SHARES, seed=number)
    told: Forecast = forecast(situation_of(plan, devices, start), seed=number)
    ended = SimRollout(plan, devices, behaviour, start, TURN).play(start + HORIZON)
    truth = (ended.ended_at - start).total_seconds() if ended.state == "finished" and ended.ended_at else np.inf
    return bool(told.end.low <= truth <= told.end.high)
