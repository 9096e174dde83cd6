"""The simulated rollout: it repeats itself, its sums hold, and it keeps to windows, freezes, caps and gates."""

from collections import Counter
from datetime import UTC, datetime, time, timedelta

import pytest

from herald_core.capacity import Caps
from herald_core.deliveries import ACTIVE, FETCHES, Phase
from herald_core.rings.gates import GateSpec
from herald_core.simulation.fleet import Behaviour, SimDevice, make_fleet
from herald_core.simulation.rollout import Outcome, SimFreeze, SimPlan, SimRollout
from herald_core.timing.windows import Window, open_until

ZONES = ("Australia/Adelaide", "Asia/Kolkata", "Europe/Lisbon", "America/Santiago")
START = datetime(2026, 4, 4, 9, tzinfo=UTC)
GATE = GateSpec(confirmed_share=0.9, failure_limit=0.1, soak=timedelta(hours=1))
NIGHTS = Window(start=time(1), end=time(4, 30))
TURN = timedelta(minutes=5)


def play(plan: SimPlan, *, rate: float = 0.0, days: int = 14, seed: int = 1, **behaviour: float) -> Outcome:
    fleet = make_fleet(120, zones=ZONES, rings=(0.1, 0.9), seed=seed)
    how = Behaviour(seed=seed, failure_rate=rate, **behaviour)  # type: ignore[arg-type]
    return SimRollout(plan, fleet, how, START, TURN).play(START + timedelta(days=days))


def test_the_same_seed_goes_the_same_way() -> None:
    plan = SimPlan(rings=[GATE, GATE], window=NIGHTS, failure_limit=0.5)
    first, second = (play(plan, rate=0.1, lost_rate=0.02) for _ in range(2))
    assert (first.phases, first.ended_at, first.confirmed) == (second.phases, second.ended_at, second.confirmed)
    assert play(plan, rate=0.1, seed=2).confirmed != first.confirmed


def test_everybody_arrives_ring_after_ring() -> None:
    ended = play(SimPlan(rings=[GATE, GATE], window=NIGHTS))
    assert (ended.state, Counter(ended.phases.values())) == ("finished", {Phase.CONFIRMED: 120})
    assert ended.opened[0] == START
    assert ended.opened[1] is not None and ended.opened[1] >= ended.confirmed[10] + timedelta(hours=1)


def test_every_turn_adds_up_and_keeps_to_the_rules() -> None:
    freeze = SimFreeze(start=START + timedelta(hours=10), end=START + timedelta(hours=34), everywhere=False)
    plan = SimPlan(rings=[GATE, GATE], window=NIGHTS, freezes=[freeze], caps=Caps(max_concurrent=7), failure_limit=0.5)
    fleet = make_fleet(120, zones=ZONES, rings=(0.1, 0.9), seed=4, silent_share=0.1)
    rollout = SimRollout(plan, fleet, Behaviour(seed=4, failure_rate=0.1, lost_rate=0.05), START, TURN)
    seen = 0

    def watch(now: datetime) -> None:
        nonlocal seen
        before = {d.device.id for d in rollout.deliveries if d.phase is Phase.OFFERED}
        assert sum(sum(c.values()) for c in rollout.counts) == 120
        assert Counter(d.phase for d in rollout.deliveries) == +sum(rollout.counts, Counter())
        for delivery in rollout.deliveries:
            if delivery.device.id in before and delivery.since is not None and delivery.since == now - TURN:
                seen += 1
                assert open_until(NIGHTS, delivery.device.zone, delivery.since) is not None
                assert not (delivery.device.group and freeze.start <= delivery.since < freeze.end)
                assert rollout.opened[delivery.device.ring] is not None
        assert sum(d.phase in ACTIVE for d in rollout.deliveries) <= 7

    rollout.play(START + timedelta(days=30), watch)
    assert seen > 50


def test_a_bad_image_halts_it_and_the_rest_is_spared() -> None:
    ended = play(SimPlan(rings=[GATE, GATE], max_attempts=1), rate=0.6, days=2)
    assert ended.state == "halted" and "tried failed" in ended.reason
    assert ended.failed < 40 and Counter(ended.phases.values())[Phase.WAITING] >= 100


@pytest.mark.parametrize(("act", "expected"), [("pause", "paused"), ("resume", "running")])
def test_people_step_in(act: str, expected: str) -> None:
    acts = [(START + timedelta(minutes=10), "pause")]
    if act == "resume":
        acts.append((START + timedelta(hours=3), "resume"))
    ended = play(SimPlan(rings=[GATE, GATE], acts=acts, caps=Caps(max_concurrent=1)), days=1)
    assert ended.state == expected


def test_what_is_never_heard_of_expires() -> None:
    fleet = make_fleet(20, zones=ZONES, rings=(1.0,), seed=3, silent_share=1.0)
    plan = SimPlan(rings=[GATE], give_up=timedelta(hours=20))
    ended = SimRollout(plan, fleet, Behaviour(seed=1), START, TURN).play(START + timedelta(days=3))
    assert set(ended.phases.values()) == {Phase.EXPIRED} and ended.state == "finished"


def test_a_spread_begins_one_after_another_and_ends_before_the_hours_do() -> None:
    fleet = make_fleet(200, zones=("Europe/Lisbon",), rings=(1.0,), seed=5, intervals=(60,))
    begun: dict[str, list[float]] = {}
    for name, spread in (("at once", 0), ("spread", 60), ("too long", 900)):
        plan = SimPlan(
            rings=[GATE], window=NIGHTS, spread=timedelta(minutes=spread), minutes=1, caps=Caps(max_concurrent=999)
        )
        opens = datetime(2026, 4, 5, 0, tzinfo=UTC)  # 01:00 in Lisbon
        ended = SimRollout(plan, fleet, Behaviour(seed=1, minutes=1), START, timedelta(minutes=1)).play(
            START + timedelta(days=1)
        )
        assert Counter(ended.phases.values()) == {Phase.CONFIRMED: 200}
        begun[name] = [(c - opens) / timedelta(minutes=1) for c in ended.confirmed]
    assert max(begun["at once"]) < 10
    assert 55 < max(begun["spread"]) < 75 and 25 < begun["spread"][100] < 45
    assert 100 < max(begun["too long"]) < 120  # half of the three and a half hours, not fifteen


def test_caps_per_site_hour_and_uplink_hold_at_every_turn() -> None:
    caps = Caps(max_concurrent=50, per_site=4, per_hour=40, uplinks={0: 1, 1: 2})
    plan = SimPlan(rings=[GATE], caps=caps, failure_limit=0.9)
    fleet = make_fleet(150, zones=("UTC",), rings=(1.0,), seed=6, sites=5)
    rollout = SimRollout(plan, fleet, Behaviour(seed=2, failure_rate=0.1), START, TURN)
    most: Counter[str] = Counter()

    def watch(now: datetime) -> None:
        at_it = Counter(d.device.site for d in rollout.deliveries if d.phase in ACTIVE)
        files = Counter(d.device.site for d in rollout.deliveries if d.phase in FETCHES)
        most["site"] = max(most["site"], *at_it.values(), 0)
        most["small uplink"] = max(most["small uplink"], files[0])
        most["uplink"] = max(most["uplink"], files[1])

    ended = rollout.play(START + timedelta(days=3), watch)
    assert ended.state == "finished"
    assert most == {"site": 4, "small uplink": 1, "uplink": 2}
    hour = timedelta(hours=1)
    assert max(sum(c <= other < c + hour for other in ended.confirmed) for c in ended.confirmed) <= 2 * 40


def test_a_gate_that_asks_for_an_approval_waits_for_it() -> None:
    gate = GateSpec(confirmed_share=0.9, failure_limit=0.1, soak=timedelta(0), needs_approval=True)
    alone = play(SimPlan(rings=[gate, GATE]), days=2)
    assert alone.opened[1] is None and alone.state == "running"
    agreed = play(SimPlan(rings=[gate, GATE], acts=[(START + timedelta(hours=30), "approve")]), days=3)
    assert agreed.opened[1] == START + timedelta(hours=30) and agreed.state == "finished"


def test_a_device_that_is_silent_has_not_called_yet() -> None:
    start = datetime(2026, 4, 4, 9, tzinfo=UTC)
    hours = timedelta(hours=1)
    whole_intervals = 30 * hours
    device = SimDevice(id=1, zone="UTC", ring=0, interval=2 * hours, offset=timedelta(0), silent_for=whole_intervals)
    for passed in (5, 31):
        assert device.call_before(start, start + passed * hours) is None
        assert device.call_after(start, start + passed * hours) == start + 32 * hours
    assert device.call_before(start, start + 33 * hours) == start + 32 * hours
