"""What the clock does for rollouts: confirm what is done, halt, open gates, offer, finish."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta

from django.db import transaction
from django.db.models import F, Q

from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.live.notify import notify
from herald.rollouts import services
from herald.rollouts.models import Ring, Rollout, RolloutState
from herald_core.deliveries import CLOSED, IN_HAND, OPEN, Event, Phase
from herald_core.rings.gates import GateReading, GateSpec, RingCounts, halt_reason, read_gate
from herald_core.timing.windows import open_until

PhaseCounts = Mapping[str, int]
#: Begun but not heard of: given up after this many times the image's minutes, and never sooner than
#: this many check-in intervals.
PATIENCE_FACTOR = 4
PATIENCE_FLOOR = timedelta(hours=1)


def turn_rollouts(*, now: datetime) -> None:
    """One turn of the clock for all rollouts; safe to repeat at any moment."""
    moving = list(Rollout.objects.moving().select_related("image").prefetch_related("rings"))
    if not moving:
        return
    _time_out_silent(now)
    for rollout in moving:
        if rollout.state == RolloutState.RUNNING:
            _find_done(rollout, now)
    counts = phase_counts([r.pk for r in moving])
    zones = Device.objects.zones()
    for rollout in moving:
        with transaction.atomic():
            _turn(rollout, counts[rollout.pk], zones, now)


def phase_counts(rollout_ids: Sequence[int]) -> dict[int, dict[int, dict[str, int]]]:
    """For each rollout and ring, how many deliveries are in each phase."""
    result: dict[int, dict[int, dict[str, int]]] = defaultdict(lambda: defaultdict(dict))
    for rollout_id, ring_id, phase, count in Delivery.objects.counts_by_ring(rollout_ids):
        result[rollout_id][ring_id][phase] = count
    return result


def ring_counts(phases: PhaseCounts) -> RingCounts:
    """A ring's counts as its gate reads them."""
    out = (Phase.WITHDRAWN, Phase.SUPERSEDED, Phase.EXPIRED)
    return RingCounts(
        in_play=sum(n for p, n in phases.items() if p not in out),
        confirmed=phases.get(Phase.CONFIRMED, 0),
        failed=phases.get(Phase.FAILED, 0),
    )


def gate_of(rollout: Rollout, ring: Ring, phases: PhaseCounts, now: datetime) -> GateReading:
    """How the gate after a ring stands."""
    spec = GateSpec(
        confirmed_share=ring.confirmed_pct / 100,
        failure_limit=rollout.failure_limit_pct / 100,
        soak=timedelta(minutes=ring.soak_minutes),
    )
    return read_gate(spec, ring_counts(phases), ring.share_reached_at, now)


def _turn(rollout: Rollout, counts: Mapping[int, PhaseCounts], zones: Sequence[str], now: datetime) -> None:
    if rollout.state == RolloutState.RUNNING:
        reason = _halting(rollout, counts)
        if reason:
            services.halt(rollout, reason=reason, now=now)
            return
        open_rings = _open_gates(rollout, counts, now)
        _offer(rollout, open_rings, counts, zones, now)
    _finish(rollout, counts, now)


def _halting(rollout: Rollout, counts: Mapping[int, PhaseCounts]) -> str | None:
    """Why the rollout must halt; looked for in each ring by itself and in all together."""
    rings = [ring_counts(counts.get(r.pk, {})) for r in rollout.rings.all()]
    everything = RingCounts(
        in_play=sum(r.in_play for r in rings),
        confirmed=sum(r.confirmed for r in rings),
        failed=sum(r.failed for r in rings),
    )
    if everything.failed <= rollout.accepted_failures:
        return None
    for ring in (*rings, everything):
        reason = halt_reason(
            ring, failure_limit=rollout.failure_limit_pct / 100, count_limit=rollout.failure_count_limit
        )
        if reason:
            return reason
    return None


def _open_gates(rollout: Rollout, counts: Mapping[int, PhaseCounts], now: datetime) -> list[Ring]:
    """Open every ring whose turn it is; the rings that are open."""
    opened: list[Ring] = []
    for ring in rollout.rings.all():
        if ring.opened_at is None:
            _open_ring(rollout, ring, now)
        opened.append(ring)
        if ring.gate_met_at is None:
            reading = gate_of(rollout, ring, counts.get(ring.pk, {}), now)
            _note_gate(rollout, ring, reading, now)
            if not reading.met:
                break
    return opened


def _open_ring(rollout: Rollout, ring: Ring, now: datetime) -> None:
    ring.opened_at = now
    Ring.objects.filter(pk=ring.pk, opened_at__isnull=True).update(opened_at=now)
    services.note(rollout, f"Ring {ring.position}, {ring.name}, opened", actor=None, now=now)


def _note_gate(rollout: Rollout, ring: Ring, reading: GateReading, now: datetime) -> None:
    if reading.share_reached_at != ring.share_reached_at:
        ring.share_reached_at = reading.share_reached_at
        Ring.objects.filter(pk=ring.pk).update(share_reached_at=reading.share_reached_at)
        notify("rollout", rollout.pk)
    if reading.met:
        ring.gate_met_at = now
        Ring.objects.filter(pk=ring.pk, gate_met_at__isnull=True).update(gate_met_at=now)
        sentence = f"The gate after ring {ring.position}, {ring.name}, was met"
        services.note(rollout, sentence, actor=None, now=now)


def _offer(
    rollout: Rollout, rings: Sequence[Ring], counts: Mapping[int, PhaseCounts], zones: Sequence[str], now: datetime
) -> None:
    """Offer to as many devices as the cap leaves room for, in the zones whose window is open and
    leaves the install time enough."""
    in_hand = sum(n for phases in counts.values() for p, n in phases.items() if p in IN_HAND)
    room = rollout.at_once - in_hand
    wanted = any(counts.get(r.pk, {}).get(Phase.WAITING, 0) for r in rings)
    if room <= 0 or not wanted:
        return
    by_end: dict[datetime, list[str]] = defaultdict(list)
    needed = timedelta(minutes=rollout.image.expected_minutes)
    for zone in zones:
        closes = open_until(rollout.window, zone, now)
        if closes is not None and closes - now > needed:
            by_end[closes].append(zone)
    for closes, names in sorted(by_end.items()):
        if room <= 0:
            return
        free = Delivery.objects.of_rollout(rollout.pk).free_to_offer(now)
        ids = list(
            free.filter(ring__in=[r.pk for r in rings], device__time_zone__in=names).values_list("id", flat=True)[:room]
        )
        latest = now + timedelta(days=30) if closes.year > 9000 else closes - needed
        room -= deliveries.offer(ids, until=latest, now=now)


def _find_done(rollout: Rollout, now: datetime) -> None:
    """Devices that run the version already need nothing sent."""
    done = Delivery.objects.of_rollout(rollout.pk).filter(
        phase=Phase.WAITING.value, device__firmware_key=F("image__version_key"), device__healthy=True
    )
    deliveries.move(done, Event.FIND_DONE, now=now, cause="runs the version already")


def _time_out_silent(now: datetime) -> None:
    """Devices that began an install and were not heard of for far longer than it takes."""
    begun = [p.value for p in IN_HAND if p is not Phase.OFFERED]
    overdue = Q(pk__in=[])
    minutes = (
        Delivery.objects.filter(phase__in=begun, kind="install")
        .values_list("image__expected_minutes", flat=True)
        .distinct()
    )
    for expected in minutes:
        patience = max(PATIENCE_FLOOR, timedelta(minutes=expected) * PATIENCE_FACTOR)
        overdue |= Q(image__expected_minutes=expected, phase_since__lt=now - patience)
    deliveries.time_out(Delivery.objects.filter(overdue, phase__in=begun, kind="install"), now=now)


def _finish(rollout: Rollout, counts: Mapping[int, PhaseCounts], now: datetime) -> None:
    phases = [p for ring in counts.values() for p, n in ring.items() if n]
    if rollout.state not in (RolloutState.RUNNING, RolloutState.STOPPED) or any(p in OPEN for p in phases):
        return
    still_open = Delivery.objects.of_rollout(rollout.pk).open().exists()  # a report may have come since the count
    if still_open or (rollout.state == RolloutState.RUNNING and any(r.opened_at is None for r in rollout.rings.all())):
        return
    state = RolloutState.FINISHED if rollout.state == RolloutState.RUNNING else RolloutState.STOPPED
    changed = Rollout.objects.filter(pk=rollout.pk, state=rollout.state, ended_at__isnull=True).update(
        state=state, ended_at=now
    )
    if changed and state == RolloutState.FINISHED:
        closed = {p: sum(ring.get(p, 0) for ring in counts.values()) for p in CLOSED}
        words = ", ".join(f"{n} {p.value}" for p, n in closed.items() if n)
        services.note(rollout, f"Finished: {words}", actor=None, now=now)
    elif changed:
        notify("rollout", rollout.pk)
