"""Where a rollout and its rings stand: the one answer that headline, list, rings, gates, report and API go by."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from herald_core.deliveries import ACTIVE, OPEN, Phase
from herald_core.rings.gates import GateReading
from herald_core.waiting import Wait, WaitReason

#: phases in which the device itself has the order; one that is only offered has not been taken by anybody yet
TAKEN = frozenset(ACTIVE) - {Phase.OFFERED}


class GateState(StrEnum):
    """How the gate after a ring stands."""

    NONE = "none"  # the last ring has none
    NOT_YET = "not-yet"  # its ring is not open
    NEVER = "never"  # its ring was never opened, and the rollout has ended
    MET = "met"
    CLOSED = "closed"  # the rollout is paused, halted or over
    NOTHING_TRIED = "nothing-tried"  # all of its ring has ended, and nothing was tried
    CANNOT = "cannot"  # all of its ring has ended, and it is not met
    APPROVAL = "approval"  # nothing else is missing
    SOAKING = "soaking"
    FAILURES = "failures"
    SHARE = "share"  # too few confirmed or tried so far


class State(StrEnum):
    """Where a rollout stands."""

    DRAFT = "draft"
    LAUNCH_FAILED = "launch-failed"
    LAUNCHING = "launching"
    QUARANTINED = "quarantined"
    PAUSED = "paused"
    HALTED = "halted"
    STOPPED = "stopped"
    FINISHED = "finished"
    # running
    DECISION = "decision"  # a gate cannot be met: a person must decide
    MOVING = "moving"  # devices have the order and work on it
    UNHEARD = "unheard"  # all that were offered it or have it are not heard from
    OFFERED = "offered"  # it is offered, and nobody has taken it yet
    APPROVAL = "approval"
    SOAKING = "soaking"
    WAITING = "waiting"  # nobody has it; `wait` says what those that wait are waiting for
    ENDING = "ending"  # nothing is left to do


@dataclass(frozen=True, kw_only=True)
class RingSight:
    """A ring as far as its status depends on it. `unheard` of its devices with an order are not heard from in time;
    `waits` are what its waiting devices wait for, one of each kind of device."""

    position: int
    phases: Mapping[str, int]
    gate: GateReading
    opened: bool
    gate_met: bool
    last: bool = False
    unheard: int = 0
    waits: Sequence[Wait] = ()

    def count(self, *phases: Phase) -> int:
        """How many devices are in any of the phases."""
        return sum(self.phases.get(p, 0) for p in phases)

    @property
    def is_over(self) -> bool:
        """Whether it was opened and none of its devices can go on."""
        return self.opened and not self.count(*OPEN)


@dataclass(frozen=True, kw_only=True)
class GateStatus:
    """How a gate stands, and until when where that is known."""

    state: GateState
    until: datetime | None = None


@dataclass(frozen=True, kw_only=True)
class Status:
    """Where a rollout stands: in which ring, with how many devices, and what ends it at `until`.

    `devices` are those that the state speaks of; `unheard` of them are not heard from in time.
    """

    state: State
    ring: int | None = None
    devices: int = 0
    unheard: int = 0
    wait: Wait | None = None
    until: datetime | None = None


def gate_status(state: str, ring: RingSight, now: datetime) -> GateStatus:
    """How the gate after a ring stands in a rollout of this state."""
    if ring.last:
        return GateStatus(state=GateState.NONE)
    if ring.gate_met:
        return GateStatus(state=GateState.MET)
    if not ring.opened:
        return GateStatus(state=GateState.NEVER if state in ("stopped", "finished") else GateState.NOT_YET)
    if state != "running":
        return GateStatus(state=GateState.CLOSED)
    unmet = {c.name: c for c in ring.gate.criteria if not c.met}
    if not unmet:
        return GateStatus(state=GateState.MET)
    if unmet.keys() == {"approval"}:
        return GateStatus(state=GateState.APPROVAL)
    if ring.is_over and unmet.keys() - {"soak", "approval"}:
        tried = next(c.measured for c in ring.gate.criteria if c.name == "tried")
        return GateStatus(state=GateState.CANNOT if tried else GateState.NOTHING_TRIED)
    if "failures" in unmet:
        return GateStatus(state=GateState.FAILURES)
    if unmet.keys() <= {"soak", "approval"} and "soak" in unmet:
        left = timedelta(seconds=unmet["soak"].needed - unmet["soak"].measured)
        return GateStatus(state=GateState.SOAKING, until=now + left)
    return GateStatus(state=GateState.SHARE)


def status_of(
    state: str, rings: Sequence[RingSight], now: datetime, *, reason: str = "", quarantined: bool = False
) -> Status:
    """Where a rollout stands. `state` is what it was put into: draft, launching, running, paused, and so on."""
    if quarantined:
        return Status(state=State.QUARANTINED)
    if state == "draft":
        return Status(state=State.LAUNCH_FAILED if reason else State.DRAFT)
    if state != "running":
        return Status(state=State(state), devices=sum(r.count(*ACTIVE) for r in rings))
    return _running(rings, now)


def _running(rings: Sequence[RingSight], now: datetime) -> Status:
    opened = [r for r in rings if r.opened]
    if not opened:
        return Status(state=State.WAITING, ring=rings[0].position if rings else None)
    # the ring whose gate shuts what comes next
    at = next((r for r in opened if not r.gate_met and not r.last), opened[-1])
    gate = gate_status("running", at, now)
    if gate.state in (GateState.CANNOT, GateState.NOTHING_TRIED):
        return Status(state=State.DECISION, ring=at.position)
    if at.last:  # nothing is shut any more: what is left may be in any ring
        return _in_hand(opened) or _waiting(opened) or Status(state=State.ENDING)
    # where nothing else is to be said the gate was met a moment ago, and the next ring opens with the next turn
    opening = Status(state=State.WAITING, ring=at.position + 1)
    return _in_hand([at]) or _kept_by_gate(gate, at) or _waiting([at]) or opening


def _in_hand(rings: Sequence[RingSight]) -> Status | None:
    taken, offered = sum(r.count(*TAKEN) for r in rings), sum(r.count(Phase.OFFERED) for r in rings)
    unheard = sum(r.unheard for r in rings)
    if not taken + offered:
        return None
    if unheard >= taken + offered:
        return Status(state=State.UNHEARD, ring=_only(rings), devices=taken + offered, unheard=unheard)
    state = State.MOVING if taken else State.OFFERED
    return Status(state=state, ring=_only(rings), devices=taken or offered, unheard=unheard)


def _kept_by_gate(gate: GateStatus, ring: RingSight) -> Status | None:
    if gate.state is GateState.APPROVAL:
        return Status(state=State.APPROVAL, ring=ring.position)
    if gate.state is GateState.SOAKING:
        return Status(state=State.SOAKING, ring=ring.position, until=gate.until)
    return None


def _waiting(rings: Sequence[RingSight]) -> Status | None:
    waiting = sum(r.count(Phase.WAITING) for r in rings)
    if not waiting:
        return None
    wait = soonest([w for r in rings for w in r.waits])
    return Status(
        state=State.WAITING, ring=_only(rings), devices=waiting, wait=wait, until=wait.until if wait else None
    )


def _only(rings: Sequence[RingSight]) -> int | None:
    return rings[0].position if len(rings) == 1 else None


def soonest(waits: Sequence[Wait]) -> Wait | None:
    """The wait that ends first: the turn of the system before any other, then the earliest known, then the first of
    those of which nobody knows."""
    if not waits:
        return None
    for wait in waits:
        if wait.reason is WaitReason.TURN:
            return wait
    known = [(w.until, at) for at, w in enumerate(waits) if w.until is not None]
    return waits[min(known)[1]] if known else waits[0]
