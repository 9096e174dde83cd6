"""Where rollouts and their rings stand, in words; the status itself is the core's (`herald_core.rollouts.status`)."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from herald.deliveries.models import Delivery
from herald.deliveries.waiting import counted, in_words, reasons_of, unheard_words, wait_words
from herald.rollouts.gates import PhaseCounts, gate_of
from herald.rollouts.models import Ring, Rollout, RolloutState
from herald_core.deliveries import ACTIVE
from herald_core.rings.gates import RingCounts
from herald_core.rollouts.status import GateState, GateStatus, RingSight, State, Status, gate_status, status_of
from herald_core.waiting import Wait

#: why a gate is closed while its rollout does not run
_CLOSED = {
    RolloutState.PAUSED: "the rollout is paused",
    RolloutState.HALTED: "the rollout halted itself",
    RolloutState.STOPPED: "the rollout was stopped",
    RolloutState.FINISHED: "the rollout has finished",
}


@dataclass(frozen=True)
class Seen:
    """What the status of rollouts depends on beside their own rows: asked once for all of them."""

    lost: Mapping[int, int]
    unheard: Mapping[int, int]
    waits: Mapping[int, Sequence[Wait]]
    now: datetime

    @classmethod
    def of(cls, rollouts: Sequence[Rollout], counts: Mapping[int, Mapping[int, PhaseCounts]], now: datetime) -> "Seen":
        ids = [r.pk for r in rollouts]
        running = [r for r in rollouts if r.state == RolloutState.RUNNING]
        quiet = [
            ring.pk
            for rollout in running
            for ring in rollout.rings.all()
            if ring.opened_at and not any(counts[rollout.pk].get(ring.pk, {}).get(p, 0) for p in ACTIVE)
        ]
        return cls(
            lost=Delivery.objects.lost_by_ring(ids),
            unheard=Delivery.objects.unheard_by_ring([r.pk for r in running], now) if running else {},
            waits=_waits_by_ring(quiet, now),
            now=now,
        )

    def ring(self, rollout: Rollout, ring: Ring, phases: PhaseCounts, *, last: bool) -> RingSight:
        """A ring as the core reads it."""
        counts = RingCounts.of_phases(phases, lost=self.lost.get(ring.pk, 0))
        return RingSight(
            position=ring.position,
            phases=phases,
            gate=gate_of(rollout, ring, counts, self.now),
            opened=ring.opened_at is not None,
            gate_met=ring.gate_met_at is not None,
            last=last,
            unheard=self.unheard.get(ring.pk, 0),
            waits=self.waits.get(ring.pk, ()),
        )


def _waits_by_ring(ring_ids: Sequence[int], now: datetime) -> dict[int, list[Wait]]:
    """What the waiting devices of some rings wait for, one device of each time zone."""
    if not ring_ids:
        return {}
    rows = list(Delivery.objects.one_waiting_of_each_zone(ring_ids))
    reasons = reasons_of(rows, now)
    found: dict[int, list[Wait]] = {}
    for row in rows:
        if row.pk in reasons and row.ring_id is not None:
            found.setdefault(row.ring_id, []).append(reasons[row.pk])
    return found


def status_view(rollout: Rollout, rings: Sequence[RingSight], quarantined: str, now: datetime) -> dict[str, Any]:
    """Where a rollout stands, as the API shows it."""
    status = status_of(rollout.state, rings, now, reason=rollout.reason, quarantined=bool(quarantined))
    words = _words(status, rollout, quarantined)
    where = f"Ring {status.ring} of {len(rings)}: " if status.ring else ""
    return {
        "code": status.state.value,
        "words": where + words if where else words[:1].upper() + words[1:],
        "ring": status.ring,
        "devices": status.devices,
        "unheard": status.unheard,
        "until": status.until,
    }


def gate_view(rollout: Rollout, ring: RingSight, now: datetime) -> dict[str, Any]:
    """How the gate after a ring stands, as the API shows it."""
    gate = gate_status(rollout.state, ring, now)
    return {"code": gate.state.value, "words": _gate_words(gate, rollout, ring), "until": gate.until}


def _words(status: Status, rollout: Rollout, quarantined: str) -> str:
    devices, reason = counted(status.devices), rollout.reason
    match status.state:
        case State.DRAFT:
            return "Draft, not launched"
        case State.LAUNCH_FAILED:
            return f"Draft; the launch failed: {reason}"
        case State.LAUNCHING:
            return "Launching"
        case State.QUARANTINED:
            return f"In quarantine, work on it fails: {quarantined}"
        case State.PAUSED:
            return f"Paused: {reason}"
        case State.HALTED:
            return f"Halted itself: {reason}"
        case State.STOPPED:
            return f"Stopped: {reason}"
        case State.FINISHED:
            return "Finished"
        case State.DECISION:
            return "the gate cannot be met, a person must decide"
        case State.MOVING:
            late = f", {status.unheard:,} of those that have the order not heard from" if status.unheard else ""
            return f"{devices} at it now{late}"
        case State.UNHEARD:
            return unheard_words(status.devices)
        case State.OFFERED:
            return f"offered to {devices}, at the next check-in"
        case State.APPROVAL:
            return "waits for an approval"
        case State.SOAKING:
            return "soaking"
        case State.WAITING:
            if status.wait is None:
                return wait_words(status.devices) if status.devices else "about to open"
            return f"{wait_words(status.devices)}, the next for {in_words(status.wait)}"
        case State.ENDING:
            return "every device is through"


def _gate_words(gate: GateStatus, rollout: Rollout, ring: RingSight) -> str:
    match gate.state:
        case GateState.NONE:
            return "The last ring: no gate after it"
        case GateState.NOT_YET:
            return f"Opens after ring {ring.position - 1}" if ring.position > 1 else "Opens at launch"
        case GateState.NEVER:
            return "Never opened"
        case GateState.MET:
            return "Open"
        case GateState.CLOSED:
            return f"Closed: {_CLOSED[RolloutState(rollout.state)]}"
        case GateState.NOTHING_TRIED:
            return "Nothing was tried: a person must decide"
        case GateState.CANNOT:
            return "Cannot be met: a person must decide"
        case GateState.APPROVAL:
            return "Waits for an approval"
        case GateState.SOAKING:
            return "Soaking"
        case GateState.FAILURES:
            return "Closed: too many failures"
        case GateState.SHARE:
            asked = next(c for c in ring.gate.criteria if c.name == "confirmed")
            if asked.met:
                return f"Waits for {next(c.needed for c in ring.gate.criteria if c.name == 'tried'):.0f} tried"
            return f"Waits for {asked.needed:.0%} confirmed"
