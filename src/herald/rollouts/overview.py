"""A rollout as it is watched: all numbers from one query, so that they always add up."""

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from herald.deliveries.models import Delivery, DeliveryEvent
from herald.groups.audience import names_of
from herald.rollouts.audience import Plan
from herald.rollouts.models import LeftOut, Ring, Rollout
from herald.rollouts.sentence import sentence_parts
from herald.rollouts.turn import PhaseCounts, gate_of, phase_counts
from herald_core.deliveries import OPEN
from herald_core.preflight import TAKES_PART, WORDS, Outcome
from herald_core.rings.assignment import detection_chance, devices_needed

MARKS_PER_RING = 600
PROGRESS_POINTS = 200


def rows(rollouts: Sequence[Rollout], now: datetime) -> list[dict[str, Any]]:
    """Rollouts as a list shows them, with all their counts from one query."""
    counts = phase_counts([r.pk for r in rollouts])
    return [_row(r, counts[r.pk], now) for r in rollouts]


def _row(rollout: Rollout, counts: Mapping[int, PhaseCounts], now: datetime) -> dict[str, Any]:
    rings = [_ring(rollout, ring, counts.get(ring.pk, {}), now) for ring in rollout.rings.all()]
    phases: Counter[str] = Counter()
    for ring in rings:
        phases.update(ring["phases"])
    by = rollout.launched_by
    return {
        "id": rollout.pk,
        "state": rollout.state,
        "reason": rollout.reason,
        "sentence": sentence_parts(rollout),
        "image": str(rollout.image),
        "audience": names_of(rollout.include.all()),
        "phases": dict(phases),
        "rings": rings,
        "total": sum(phases.values()),
        "launched_at": rollout.launched_at,
        "launched_by": str(by) if by else None,
        "created_at": rollout.created_at,
        "ended_at": rollout.ended_at,
    }


def _ring(rollout: Rollout, ring: Ring, phases: PhaseCounts, now: datetime) -> dict[str, Any]:
    reading = gate_of(rollout, ring, phases, now)
    # nothing of it can move any more, and yet the gate is not met: a person must decide
    over = ring.opened_at is not None and not any(n and p in OPEN for p, n in phases.items())
    share_met = all(c.met for c in reading.criteria if c.name != "soak")
    return {
        "id": ring.pk,
        "position": ring.position,
        "name": ring.name,
        "kind": ring.kind,
        "group": {"id": ring.group_id, "name": ring.group.name} if ring.group else None,
        "share_pct": ring.share_pct,
        "number": ring.number,
        "confirmed_pct": ring.confirmed_pct,
        "soak_minutes": ring.soak_minutes,
        "opened_at": ring.opened_at,
        "gate_met_at": ring.gate_met_at,
        "size": sum(phases.values()),
        "phases": dict(phases),
        "criteria": [c.__dict__ for c in reading.criteria],
        "stuck": rollout.state == "running" and over and ring.gate_met_at is None and not share_met,
    }


def detail(rollout: Rollout, now: datetime) -> dict[str, Any]:
    """One rollout with its settings."""
    left_out = LeftOut.objects.filter(rollout=rollout).count()
    errors = Delivery.objects.errors_with_counts(rollout.pk) if rollout.launched_at else []
    return {
        **rows([rollout], now)[0],
        "image_id": rollout.image_id,
        "include": [{"id": g.pk, "name": g.name} for g in rollout.include.all()],
        "exclude": [{"id": g.pk, "name": g.name} for g in rollout.exclude.all()],
        "window_start": rollout.window_start,
        "window_end": rollout.window_end,
        "window_days": rollout.window_days,
        "starts_at": rollout.starts_at,
        "give_up_after_hours": rollout.give_up_after_hours,
        "failure_limit_pct": rollout.failure_limit_pct,
        "failure_count_limit": rollout.failure_count_limit,
        "at_once": rollout.at_once,
        "max_attempts": rollout.max_attempts,
        "left_out": left_out,
        "mid_install": Delivery.objects.mid_install(rollout.pk),
        "errors": [{"error": e, "count": n} for e, n in errors],
        "held": [{"reason": r, "count": n} for r, n in Delivery.objects.held_with_counts(rollout.pk)],
    }


def preflight_view(rollout: Rollout, plan: Plan) -> dict[str, Any]:
    """A plan in numbers."""
    rate = rollout.failure_limit_pct / 100
    return {
        "audience": plan.audience,
        "reached": plan.reached,
        "in_no_ring": plan.in_no_ring,
        "outcomes": [
            {"outcome": o.value, "words": WORDS[o], "takes_part": o in TAKES_PART, "count": plan.outcomes[o]}
            for o in Outcome
            if plan.outcomes[o]
        ],
        "rings": [
            {
                "position": ring.position,
                "name": ring.name,
                "devices": plan.ring_counts[index],
                "detects": detection_chance(plan.ring_counts[index], rate),
                "shares": plan.shares_of(index) if ring.kind in ("share", "number") else [],
            }
            for index, ring in enumerate(rollout.rings.all())
        ],
        "devices_for_95": devices_needed(rate),
    }


def marks(rollout: Rollout) -> list[dict[str, Any]]:
    """One mark a device for each ring that is small enough to be drawn so."""
    sizes = phase_counts([rollout.pk])[rollout.pk]
    small = [ring for ring, phases in sizes.items() if sum(phases.values()) <= MARKS_PER_RING]
    by_ring: dict[int, list[dict[str, Any]]] = {ring: [] for ring in small}
    found = Delivery.objects.of_rollout(rollout.pk).filter(ring__in=small).order_by("device__name")
    for pk, device, phase, ring, held in found.values_list("id", "device__name", "phase", "ring_id", "held"):
        by_ring[ring].append({"id": pk, "device": device, "phase": phase, "held": bool(held)})
    return [{"ring": ring, "marks": rows} for ring, rows in sorted(by_ring.items())]


def progress(rollout: Rollout) -> list[dict[str, Any]]:
    """How many were confirmed over time, in at most 200 points."""
    if rollout.launched_at is None:
        return []
    at_once = Delivery.objects.of_rollout(rollout.pk).filter(phase="confirmed", events__isnull=True).count()
    times = list(DeliveryEvent.objects.confirmed_times(rollout.pk))
    points = [{"at": rollout.launched_at, "confirmed": at_once}]
    step = max(1, len(times) // PROGRESS_POINTS)
    for index in range(0, len(times), step):
        points.append({"at": times[index], "confirmed": at_once + index + 1})
    if times:
        points.append({"at": times[-1], "confirmed": at_once + len(times)})
    return points
