"""Where rollouts and rings stand: what is said is true of every mix of phases, gates and states."""

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from herald_core.deliveries import ACTIVE, OPEN, Phase
from herald_core.rings.gates import GateSpec, RingCounts, read_gate
from herald_core.rollouts.status import GateState, RingSight, State, gate_status, soonest, status_of
from herald_core.waiting import Wait, WaitReason

NOW = datetime(2026, 11, 23, tzinfo=UTC)
HOUR = timedelta(hours=1)
STATES = ("draft", "launching", "running", "paused", "halted", "stopped", "finished")


def ring(
    position: int = 1,
    *,
    opened: bool = True,
    met: bool = False,
    last: bool = False,
    unheard: int = 0,
    waits: tuple[Wait, ...] = (),
    soak: timedelta = HOUR,
    reached: datetime | None = None,
    approval: bool = False,
    **phases: int,
) -> RingSight:
    spec = GateSpec(confirmed_share=0.9, failure_limit=0.1, soak=soak, needs_approval=approval)
    return RingSight(
        position=position,
        phases=phases,
        gate=read_gate(spec, RingCounts.of_phases(phases), reached, NOW),
        opened=opened,
        gate_met=met,
        last=last,
        unheard=unheard,
        waits=waits,
    )


def test_what_is_only_offered_does_not_move() -> None:
    assert status_of("running", [ring(offered=3, waiting=2)], NOW).state is State.OFFERED
    moving = status_of("running", [ring(offered=3, fetching=2)], NOW)
    assert (moving.state, moving.devices) == (State.MOVING, 2)


def test_nobody_who_is_heard_from_is_said_when_none_is() -> None:
    silent = status_of("running", [ring(offered=24, unheard=24, waiting=100)], NOW)
    assert (silent.state, silent.devices) == (State.UNHEARD, 24)
    some = status_of("running", [ring(offered=23, installing=1, unheard=23)], NOW)
    assert (some.state, some.devices, some.unheard) == (State.MOVING, 1, 23)


def test_the_last_ring_has_no_gate_to_be_met() -> None:
    rings = [ring(confirmed=5, met=True), ring(2, last=True, confirmed=5)]
    assert gate_status("running", rings[1], NOW).state is GateState.NONE
    assert status_of("running", rings, NOW).state is State.ENDING
    failed = [ring(confirmed=5, met=True), ring(2, last=True, failed=5)]
    assert status_of("running", failed, NOW).state is State.ENDING


def test_a_ring_that_is_through_without_a_trial_needs_a_person() -> None:
    for phases in ({"withdrawn": 4}, {"expired": 4}, {"expired": 2, "superseded": 2}, {}):
        through = ring(**phases)
        assert gate_status("running", through, NOW).state is GateState.NOTHING_TRIED
        assert status_of("running", [through, ring(2, opened=False, last=True, waiting=3)], NOW).state is State.DECISION
    assert gate_status("running", ring(failed=4), NOW).state is GateState.CANNOT


def test_soaking_says_until_when_and_approval_comes_last() -> None:
    soaking = ring(confirmed=10, reached=NOW - timedelta(minutes=20), approval=True)
    assert gate_status("running", soaking, NOW).until == NOW + timedelta(minutes=40)
    assert status_of("running", [soaking, ring(2, opened=False, last=True)], NOW).until == NOW + timedelta(minutes=40)
    soaked = ring(confirmed=10, reached=NOW - HOUR, approval=True)
    assert status_of("running", [soaked, ring(2, opened=False, last=True)], NOW).state is State.APPROVAL


def test_stragglers_of_a_ring_before_are_said_once_the_last_is_through() -> None:
    status = status_of("running", [ring(confirmed=9, fetching=1, met=True), ring(2, last=True, confirmed=5)], NOW)
    assert (status.state, status.devices, status.ring) == (State.MOVING, 1, None)


def test_a_gate_that_was_met_a_moment_ago_opens_the_next_ring() -> None:
    ready = ring(confirmed=10, reached=NOW - HOUR)
    shut = ring(2, opened=False, last=True, waiting=3)
    assert gate_status("running", ready, NOW).state is GateState.MET
    status = status_of("running", [ready, shut], NOW)
    assert (status.state, status.ring, status.devices) == (State.WAITING, 2, 0)


def test_a_ring_that_will_never_open_does_not_promise_to() -> None:
    shut = ring(2, opened=False, waiting=3)
    assert gate_status("running", shut, NOW).state is GateState.NOT_YET
    for state in ("stopped", "finished"):
        assert gate_status(state, shut, NOW).state is GateState.NEVER


@pytest.mark.parametrize("state", STATES)
def test_quarantine_goes_before_everything(state: str) -> None:
    assert status_of(state, [ring(fetching=1)], NOW, quarantined=True).state is State.QUARANTINED


def test_the_soonest_wait_is_told() -> None:
    window = Wait(reason=WaitReason.WINDOW, until=NOW + 2 * HOUR)
    freeze = Wait(reason=WaitReason.FREEZE, until=NOW + HOUR, about="harvest")
    cap = Wait(reason=WaitReason.CAP)
    assert soonest([window, freeze, cap]) == freeze
    assert soonest([window, Wait(reason=WaitReason.TURN), freeze]) == Wait(reason=WaitReason.TURN)
    assert soonest([cap]) == cap and soonest([]) is None


counts = st.dictionaries(st.sampled_from([p.value for p in Phase]), st.integers(0, 5), max_size=6)


@st.composite
def sights(draw: st.DrawFn) -> list[RingSight]:
    """Rings as they can be: each opened only after the gate before it was met."""
    many = draw(st.integers(1, 4))
    opened = draw(st.integers(0, many))
    rings = []
    for position in range(1, many + 1):
        phases = draw(counts)
        in_hand = sum(phases.get(p, 0) for p in ACTIVE)
        made = ring(
            position,
            opened=position <= opened,
            met=position < opened,
            last=position == many,
            unheard=draw(st.integers(0, in_hand)),
            approval=draw(st.booleans()),
            reached=draw(st.sampled_from([None, NOW - 2 * HOUR, NOW - HOUR / 2])),
            **phases,
        )
        rings.append(made)
    return rings


@given(st.sampled_from(STATES), sights())
def test_what_is_said_is_so(state: str, rings: list[RingSight]) -> None:
    status = status_of(state, rings, NOW)
    opened = [r for r in rings if r.opened]
    in_hand = sum(r.count(*ACTIVE) for r in opened)
    if state != "running":
        assert status.state.value in (state, "launch-failed")
    elif status.state in (State.MOVING, State.OFFERED, State.UNHEARD):
        assert 0 < status.devices <= in_hand
    elif status.state is State.WAITING:
        assert status.devices <= sum(r.count(Phase.WAITING) for r in rings)
    elif status.state is State.ENDING:
        assert not any(r.count(*OPEN) for r in opened)
    elif status.state is State.DECISION:
        at = next(r for r in rings if r.position == status.ring)
        assert at.is_over and not at.gate_met and not at.last
    for r in rings:
        gate = gate_status(state, r, NOW)
        assert (gate.state is GateState.NONE) is r.last
        if gate.state in (GateState.SOAKING, GateState.APPROVAL):
            assert r.opened and not r.gate_met and state == "running" and not r.gate.met
        if gate.until is not None:
            assert gate.state is GateState.SOAKING and gate.until >= NOW
