"""What happens to rollouts as time passes: confirm what is done, halt, open gates, offer, finish."""

import time
from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from functools import partial, reduce
from operator import add

from django.db.models import F

from herald.attention.models import Part
from herald.attention.quarantine import Isolation
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.deliveries.time_outs import end_unheard
from herald.images.models import Image
from herald.live.notify import notify
from herald.rollouts.engine.audience_sync import recheck_ring, sync_audience
from herald.rollouts.engine.offers import OfferContext, PendingImage, PendingImages, offer
from herald.rollouts.gates import PhaseCounts, gate_of
from herald.rollouts.intervene import lifecycle
from herald.rollouts.models import Ring, Rollout, RolloutState
from herald_core.deliveries import CLOSED, OPEN, Event, Kind, Phase
from herald_core.rings.gates import GateReading, RingCounts, halt_reason

#: how often it is looked whether waiting devices run the version by now
VERSION_CHECK_INTERVAL = timedelta(seconds=30)
#: so long after its begin a turn goes on to the next ring to open, or the next rollout to offer for (of real time)
TURN_BUDGET_SECONDS = 0.3


class _TurnBudget:
    """What a turn has taken so far. When it has been enough, the rest waits for the next one; each turn opens a ring,
    or offers for one rollout if there is none to open, however slow the machine is."""

    def __init__(self) -> None:
        self._began = time.perf_counter()
        self.rings_opened = 0

    @property
    def is_spent(self) -> bool:
        return time.perf_counter() - self._began > TURN_BUDGET_SECONDS

    @property
    def may_open(self) -> bool:
        return self.rings_opened == 0 or not self.is_spent


def tick_rollouts(*, now: datetime, isolation: Isolation | None = None) -> bool:
    """One turn of the clock for all rollouts; safe to repeat at any moment. None of them stops the others.

    Returns:
        Whether all had their turn; where time was up, the rest waits for the next one.
    """
    isolation, budget = isolation or Isolation(now), _TurnBudget()
    moving = [
        r for r in Rollout.objects.moving().prefetch_related("rings") if not isolation.is_held(Part.ROLLOUT, r.pk)
    ]
    if not moving:
        return True
    end_unheard(Kind.INSTALL, isolation)
    running = {r.pk: r for r in moving if r.state == RolloutState.RUNNING}
    for rollout in running.values():
        isolation.run(Part.ROLLOUT, rollout.pk, partial(sync_audience, rollout, now=now))
    due = [r.pk for r in running.values() if r.looked_at is None or now - r.looked_at >= VERSION_CHECK_INTERVAL]
    isolation.run_batch(Part.ROLLOUT, due, lambda ids: _confirm_already_current(ids, now))
    counts, waits = _counts_now([r.pk for r in moving])
    lost = Delivery.objects.lost_by_ring([r.pk for r in moving])
    open_rings: dict[int, list[Ring]] = {}
    for rollout in moving:
        turned = isolation.run(Part.ROLLOUT, rollout.pk, partial(_turn, rollout, counts[rollout.pk], lost, budget, now))
        open_rings[rollout.pk] = turned or []
    if not any(open_rings.values()):
        return True
    if budget.rings_opened and budget.is_spent:
        return False
    whose = [r for r in running.values() if open_rings[r.pk]]
    return _offer_in_turn(whose, open_rings, counts, waits, isolation, budget)


class _RoundRobinCursor:
    """The rollout that was served last where the time of a turn was up; the next turn begins after it."""

    rollout_id: int | None = None


def _offer_in_turn(
    rollouts: Sequence[Rollout],
    open_rings: Mapping[int, Sequence[Ring]],
    counts: Mapping[int, Mapping[int, PhaseCounts]],
    waits: Mapping[int, PendingImages],
    isolation: Isolation,
    budget: _TurnBudget,
) -> bool:
    """Offer for one rollout after the other, the highest rank first. With very many the turn ends before all had
    theirs, so that gates and halting never wait long; the others come first in the next. Whether all had theirs."""
    now = isolation.now
    context = OfferContext.now(now, list(counts))
    places = [r.pk for r in rollouts]
    first = places.index(_RoundRobinCursor.rollout_id) + 1 if _RoundRobinCursor.rollout_id in places else 0
    _RoundRobinCursor.rollout_id = None
    for rollout in (*rollouts[first:], *rollouts[:first]):
        rings, waiting = open_rings[rollout.pk], waits[rollout.pk]
        isolation.run(
            Part.ROLLOUT, rollout.pk, partial(offer, rollout, rings, counts[rollout.pk], waiting, context, now)
        )
        if budget.is_spent:
            _RoundRobinCursor.rollout_id = rollout.pk
            return False
    return True


def _counts_now(rollout_ids: Sequence[int]) -> tuple[dict[int, dict[int, dict[str, int]]], dict[int, PendingImages]]:
    """For each rollout its counts by ring and phase, and the images that its devices wait for, the quickest first."""
    counts: dict[int, dict[int, dict[str, int]]] = defaultdict(lambda: defaultdict(lambda: defaultdict(int)))
    waiting: dict[int, set[int]] = defaultdict(set)
    expedited: dict[int, bool] = defaultdict(bool)
    for rollout_id, ring_id, phase, image_id, is_expedited, count in Delivery.objects.counts_by_image(rollout_ids):
        counts[rollout_id][ring_id][phase] += count
        if phase == Phase.WAITING:
            waiting[rollout_id].add(image_id)
            expedited[rollout_id] |= is_expedited
    known = {
        pk: PendingImage(image=pk, length=timedelta(minutes=minutes), version_key=key)
        for pk, minutes, key in Image.objects.lengths_and_keys({i for ids in waiting.values() for i in ids})
    }
    return counts, {
        r: PendingImages(
            images=sorted((known[i] for i in waiting[r]), key=lambda w: (w.length, w.image)),
            some_expedited=expedited[r],
        )
        for r in rollout_ids
    }


def _turn(
    rollout: Rollout, counts: Mapping[int, PhaseCounts], lost: Mapping[int, int], budget: _TurnBudget, now: datetime
) -> list[Ring]:
    """Halt it, open its gates, or end it; the rings from which may be offered."""
    open_rings: list[Ring] = []
    if rollout.state == RolloutState.RUNNING:
        rings = {r.pk: RingCounts.of_phases(counts.get(r.pk, {}), lost=lost.get(r.pk, 0)) for r in rollout.rings.all()}
        reason = _halting(rollout, rings)
        if reason:
            lifecycle.halt(rollout, reason=reason, now=now)
            return []
        open_rings = _open_gates(rollout, rings, budget, now)
    _finish(rollout, counts, now)
    return open_rings


def _halting(rollout: Rollout, rings: Mapping[int, RingCounts]) -> str | None:
    """Why the rollout must halt; looked for in each ring by itself and in all together."""
    everything = reduce(add, rings.values())
    if everything.failed <= rollout.accepted_failures:
        return None
    for ring in (*rings.values(), everything):
        reason = halt_reason(
            ring, failure_limit=rollout.failure_limit_pct / 100, count_limit=rollout.failure_count_limit
        )
        if reason:
            return reason
    return None


def _open_gates(rollout: Rollout, counts: Mapping[int, RingCounts], budget: _TurnBudget, now: datetime) -> list[Ring]:
    """Open every ring whose turn it is; the rings that are open."""
    opened: list[Ring] = []
    rings = list(rollout.rings.all())
    for ring in rings:
        if ring.opened_at is None:
            if not budget.may_open:
                break
            budget.rings_opened += 1
            if not _open_ring(rollout, ring, now):
                break
        opened.append(ring)
        if ring.gate_met_at is None and ring is not rings[-1]:  # after the last ring there is no gate
            reading = gate_of(rollout, ring, counts[ring.pk], now)
            _note_gate(rollout, ring, reading, now)
            if not reading.met:
                break
    return opened


def _open_ring(rollout: Rollout, ring: Ring, now: datetime) -> bool:
    """Open a ring; whether it was still the one whose turn it is."""
    ring.opened_at = now
    if not Ring.objects.filter(pk=ring.pk, position=ring.position, opened_at=None).update(opened_at=now):
        return False  # somebody changed the rings ahead just now; the next turn looks again
    if ring.position > 1:  # the first opens at the launch, which has just looked
        recheck_ring(rollout, ring, now=now)
    lifecycle.note(rollout, f"Ring {ring.position}, {ring.name}, opened", actor=None, now=now)
    return True


def _note_gate(rollout: Rollout, ring: Ring, reading: GateReading, now: datetime) -> None:
    if reading.share_reached_at != ring.share_reached_at:
        ring.share_reached_at = reading.share_reached_at
        Ring.objects.filter(pk=ring.pk).update(share_reached_at=reading.share_reached_at)
        notify("rollout", rollout.pk)
    if reading.met:
        ring.gate_met_at = now
        Ring.objects.filter(pk=ring.pk, gate_met_at__isnull=True).update(gate_met_at=now)
        sentence = f"The gate after ring {ring.position}, {ring.name}, was met"
        lifecycle.note(rollout, sentence, actor=None, now=now)


def _confirm_already_current(due: Sequence[int], now: datetime) -> None:
    """Devices that run the version already need nothing sent; those that run the last one, no steps before it.

    All waiting devices of a rollout are looked at now and then, by one query for all rollouts that are due.
    """
    waiting = Delivery.objects.filter(rollout__in=list(due), is_current_step=True).waiting()
    arrived = waiting.filter(hop__lt=F("hops"), device__firmware_key=F("target__version_key"))
    deliveries.take_steps(dict.fromkeys(arrived.values_list("id", "target_id"), ()))
    done = waiting.filter(device__firmware_key=F("image__version_key"), device__healthy=True)
    deliveries.move(done, Event.FIND_DONE, now=now, cause="runs the version already")
    Rollout.objects.filter(pk__in=list(due)).update(looked_at=now)


def _finish(rollout: Rollout, counts: Mapping[int, PhaseCounts], now: datetime) -> None:
    phases = [p for ring in counts.values() for p, n in ring.items() if n]
    if rollout.state not in (RolloutState.RUNNING, RolloutState.STOPPED) or any(p in OPEN for p in phases):
        return
    still_open = Delivery.objects.of_rollout(rollout.pk).open().exists()  # a report may have come since the count
    # a ring that nobody is in yet may still get devices, where the rollout follows its audience; otherwise its gate,
    # and those before it, have nothing left to decide
    awaits = rollout.follows_audience and any(r.opened_at is None for r in rollout.rings.all())
    if still_open or (rollout.state == RolloutState.RUNNING and awaits):
        return
    state = RolloutState.FINISHED if rollout.state == RolloutState.RUNNING else RolloutState.STOPPED
    changed = Rollout.objects.filter(pk=rollout.pk, state=rollout.state, ended_at__isnull=True).update(
        state=state, ended_at=now
    )
    if changed and state == RolloutState.FINISHED:
        closed = {p: sum(ring.get(p, 0) for ring in counts.values()) for p in CLOSED}
        words = ", ".join(f"{n} {p.value}" for p, n in closed.items() if n)
        lifecycle.note(rollout, f"Finished: {words}", actor=None, now=now)
    elif changed:
        notify("rollout", rollout.pk)
