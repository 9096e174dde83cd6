"""How far rings are, and how the gates after them stand: for the engine, which opens them, and whoever watches."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta

from herald.deliveries.models import Delivery
from herald.rollouts.models import Ring, Rollout
from herald_core.rings.gates import GateReading, GateSpec, RingCounts, read_gate

PhaseCounts = Mapping[str, int]


def phase_counts(rollout_ids: Sequence[int]) -> dict[int, dict[int, dict[str, int]]]:
    """For each rollout and ring, how many deliveries are in each phase."""
    result: dict[int, dict[int, dict[str, int]]] = defaultdict(lambda: defaultdict(dict))
    for rollout_id, ring_id, phase, count in Delivery.objects.counts_by_ring(rollout_ids):
        result[rollout_id][ring_id][phase] = count
    return result


def spec_of(rollout: Rollout, ring: Ring) -> GateSpec:
    """What the gate after a ring asks for."""
    return GateSpec(
        confirmed_share=ring.confirmed_pct / 100,
        failure_limit=rollout.failure_limit_pct / 100,
        soak=timedelta(minutes=ring.soak_minutes),
        max_unreached=ring.max_unreached,
        needs_approval=ring.needs_approval,
        min_tried=ring.min_tried,
    )


def gate_of(rollout: Rollout, ring: Ring, counts: RingCounts, now: datetime) -> GateReading:
    """How the gate after a ring stands."""
    approved = ring.approved_at is not None
    return read_gate(spec_of(rollout, ring), counts, ring.share_reached_at, now, approved=approved)
