"""A rollout as it is watched: all numbers from one query, so that they always add up."""

from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any

from herald.attention.models import Part, Quarantine
from herald.deliveries.models import Delivery
from herald.fleet.models import RemovedDevice
from herald.groups.audience import audience_words, named_count, named_devices
from herald.rollouts.compose.drafts import COLUMNS
from herald.rollouts.gates import PhaseCounts, phase_counts
from herald.rollouts.late_joiners import late_limit, late_waiting
from herald.rollouts.models import ChangeRow, ExcludedDevice, Ring, Rollout
from herald.rollouts.preflight.past_failures import past_failures
from herald.rollouts.preflight.plan import Plan, PlannedDevice
from herald.rollouts.watch.sentence import sentence_parts, short_words
from herald.rollouts.watch.status import Seen, gate_view, status_view
from herald_core.capabilities import LACKING_TEXT
from herald_core.preflight import TAKES_PART, WORDS, Outcome, leeway
from herald_core.rings.assignment import detection_chance, devices_needed
from herald_core.rings.gates import RingCounts
from herald_core.rollouts.status import GateState, RingSight

MARKS_PER_RING = 600


def rows(rollouts: Sequence[Rollout], now: datetime) -> list[dict[str, Any]]:
    """Rollouts as a list shows them, with all their counts from one query."""
    counts = phase_counts([r.pk for r in rollouts])
    seen = Seen.of(rollouts, counts, now)
    quarantined = Quarantine.objects.causes_of(Part.ROLLOUT, [r.pk for r in rollouts])
    return [_row(r, counts[r.pk], seen, quarantined.get(r.pk, "")) for r in rollouts]


def _row(rollout: Rollout, counts: Mapping[int, PhaseCounts], seen: Seen, quarantined: str) -> dict[str, Any]:
    rings: list[dict[str, Any]] = []
    sights: list[RingSight] = []
    every = list(rollout.rings.all())
    for ring in every:
        sight = seen.ring(rollout, ring, counts.get(ring.pk, {}), last=ring is every[-1])
        sights.append(sight)
        rings.append(_ring(rollout, ring, sight, seen))
    phases: Counter[str] = Counter()
    for shown in rings:
        phases.update(shown["phases"])
    by = rollout.launched_by
    return {
        "id": rollout.pk,
        "state": rollout.state,
        "status": status_view(rollout, sights, quarantined, seen.now),
        "quarantined": quarantined,
        "reason": rollout.reason,
        "name": rollout.name,
        "purpose": rollout.purpose,
        "ticket": rollout.ticket,
        "sentence": sentence_parts(rollout),
        "target": short_words(rollout),
        "rank": rollout.rank,
        "audience": whom(rollout),
        "phases": dict(phases),
        "rings": rings,
        "total": sum(phases.values()),
        "tried": sum(ring["tried"] for ring in rings),
        "launched_at": rollout.launched_at,
        "launched_by": str(by) if by else None,
        "created_at": rollout.created_at,
        "ended_at": rollout.ended_at,
        "forecast": rollout.current_forecast,
    }


def whom(rollout: Rollout) -> str:
    """Whom a rollout is for, in words."""
    return "the devices it changed" if rollout.rolls_back_id else audience_words(rollout)


def _ring(rollout: Rollout, ring: Ring, sight: RingSight, seen: Seen) -> dict[str, Any]:
    lost = seen.lost.get(ring.pk, 0)
    gate = gate_view(rollout, sight, seen.now)
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
        "max_unreached": ring.max_unreached,
        "min_tried": ring.min_tried,
        "lost": lost,
        "tried": RingCounts.of_phases(sight.phases, lost=lost).tried,
        "needs_approval": ring.needs_approval,
        "approved_by": str(ring.approved_by) if ring.approved_by else None,
        "opened_at": ring.opened_at,
        "gate_met_at": ring.gate_met_at,
        "size": sum(sight.phases.values()),
        "phases": dict(sight.phases),
        "unheard": sight.unheard,
        "criteria": [c.__dict__ for c in sight.gate.criteria],
        "gate": gate,
        # nothing of it can move any more, and yet the gate is not met: a person must decide
        "stuck": gate["code"] in (GateState.CANNOT, GateState.NOTHING_TRIED),
    }


def detail(rollout: Rollout, now: datetime) -> dict[str, Any]:
    """One rollout with its settings."""
    left_out = ExcludedDevice.objects.filter(rollout=rollout).count()
    errors = Delivery.objects.errors_with_counts(rollout.pk) if rollout.launched_at else []
    plan = rollout.plan_version
    return {
        **rows([rollout], now)[0],
        "changes": [change_view(c) for c in rollout.changes.all()],
        "include": [{"id": g.pk, "name": g.name} for g in rollout.include.all()],
        "exclude": [{"id": g.pk, "name": g.name} for g in rollout.exclude.all()],
        "include_devices": named_devices(rollout),
        "include_device_count": named_count(rollout),
        **{name: getattr(rollout, name) for name in SETTINGS},
        "plan": f"{plan.plan.name}, version {plan.number}" if plan else "",
        "override_approved_by": str(rollout.override_approved_by) if rollout.override_approved_by else None,
        "overridden_by": str(rollout.overridden_by) if rollout.overridden_by else None,
        "rolled_back_by": [r.pk for r in rollout.rolled_back_by.order_by("id")],
        "left_out": left_out,
        "taken_out": rollout.taken_out.count(),
        "removed_devices": RemovedDevice.objects.filter(rollouts__contains=[rollout.pk]).count(),
        "mid_install": Delivery.objects.mid_install(rollout.pk),
        "errors": [{"error": e, "count": n} for e, n in errors],
        "late_joiners": Delivery.objects.of_rollout(rollout.pk).filter(joined_late=True).count(),
        "late_joiners_waiting": late_waiting(rollout),
        "late_limit_in_force": late_limit(rollout) if rollout.follows_audience and rollout.launched_at else 0,
        "launched_despite": rollout.launched_despite,
        "with_file": Delivery.objects.with_file(rollout.pk) if rollout.prefetch else 0,
        "held": [{"reason": r, "count": n} for r, n in Delivery.objects.held_with_counts(rollout.pk)],
    }


#: shown as they are kept
SETTINGS = ("rolls_back_id", "window_days", "plan_version_id", *(c for c in COLUMNS if c != "plan_version"))


def change_view(change: ChangeRow) -> dict[str, Any]:
    """A row of the change table as it is kept."""
    return {
        "model_id": change.model_id,
        "model": change.model.name if change.model else "",
        "uplink": change.uplink,
        "from_version": change.from_version,
        "choice": change.choice,
        "image_id": change.image_id,
        "image": str(change.image) if change.image else "",
        "within": change.within,
    }


def preflight_view(rollout: Rollout, plan: Plan) -> dict[str, Any]:
    """A plan in numbers."""
    rate = rollout.failure_limit_pct / 100
    distances = plan.distances
    return {
        "audience": plan.audience,
        "reached": plan.reached,
        "leeway": leeway(plan.reached),
        "in_no_ring": plan.in_no_ring,
        "outcomes": [
            {
                "outcome": o.value,
                "words": WORDS[o],
                "amounts": plan.amounts(o),
                "takes_part": o in TAKES_PART,
                "count": plan.outcomes[o],
            }
            for o in Outcome
            if plan.outcomes[o]
        ],
        "lacking": [
            {"capability": f.value, "words": LACKING_TEXT[f], "count": n} for f, n in sorted(plan.lacking.items())
        ],
        "rings": [
            {
                "position": ring.position,
                "name": ring.name,
                "devices": plan.ring_counts[index],
                "detects": detection_chance(plan.ring_counts[index], rate),
                "largest_difference": distances[index][0],
                "variation": distances[index][1],
                "shares": plan.shares_of(index) if _is_drawn(ring) else [],
            }
            for index, ring in enumerate(rollout.rings.all())
        ],
        "devices_for_95": devices_needed(rate),
        "models": _models(plan),
        "hops": sum(len(d.steps) - 1 for d in plan.taking_part),
        "past_failures": [f.sentence for f in past_failures(rollout, plan.targets)],
    }


def _models(plan: Plan) -> list[dict[str, Any]]:
    """The audience by model: what it runs, over which uplinks, and what it is to get."""
    of_model: dict[str, list[PlannedDevice]] = defaultdict(list)
    for device in plan.devices:
        if device.outcome not in (Outcome.RETIRED, Outcome.NOT_ADMITTED):
            of_model[device.strata[0]].append(device)
    return [
        {
            "model": model,
            "devices": len(devices),
            "versions": _commonest(d.strata[3] for d in devices),
            "uplinks": _commonest(d.strata[1] for d in devices),
            "targets": _commonest(d.steps[-1].version for d in devices if d.steps),
            "without_target": sum(d.outcome is Outcome.NO_TARGET for d in devices),
            "left_out": sum(d.outcome is Outcome.ROW_LEFT_OUT for d in devices),
            "via": sum(d.outcome is Outcome.VIA or len(d.steps) > 1 for d in devices),
        }
        for model, devices in sorted(of_model.items(), key=lambda item: -len(item[1]))
    ]


def _commonest(values: Iterable[str]) -> list[dict[str, Any]]:
    return [{"value": value, "count": n} for value, n in Counter(values).most_common()]


def marks(rollout: Rollout) -> list[dict[str, Any]]:
    """One mark a device for each ring that is small enough to be drawn so."""
    sizes = phase_counts([rollout.pk])[rollout.pk]
    small = [ring for ring, phases in sizes.items() if sum(phases.values()) <= MARKS_PER_RING]
    by_ring: dict[int, list[dict[str, Any]]] = {ring: [] for ring in small}
    found = Delivery.objects.of_rollout(rollout.pk).filter(ring__in=small).order_by("device__name")
    for pk, device, phase, ring, held in found.values_list("id", "device__name", "phase", "ring_id", "hold_reason"):
        by_ring[ring].append({"id": pk, "device": device, "phase": phase, "held": bool(held)})
    return [{"ring": ring, "marks": rows} for ring, rows in sorted(by_ring.items())]


def _is_drawn(ring: Ring) -> bool:
    """Whether chance decides who is in it."""
    return ring.kind in ("share", "number") or (ring.kind == "group" and ring.share_pct is not None)
