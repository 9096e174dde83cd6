"""Verbs on rollouts that were launched: pause, resume, stop, open a gate, approve, rank."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from django.db import transaction
from django.db.models import F

from herald.db.limits import limited_to
from herald.db.locks import RANKS, take_lock
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.http.errors import Conflict, Invalid
from herald.images.models import Image, ImageStatus
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald.rollouts.models import OPEN_STATES, Ring, Rollout, RolloutState
from herald_core.deliveries import Phase


def pause(rollout: Rollout, *, actor: User | None, now: datetime, reason: str = "paused by hand") -> int:
    """Offer nothing new for now, for a reason; how many devices are mid-install and will finish.

    Raises:
        Conflict: it is not running.
    """
    with transaction.atomic():
        rollout = locked(rollout, RolloutState.RUNNING, doing="paused")
        return _hold(rollout, RolloutState.PAUSED, reason=reason, actor=actor, now=now)


def halt(rollout: Rollout, *, reason: str, now: datetime) -> int:
    """The rollout stops itself; how many devices are mid-install and will finish."""
    with transaction.atomic():
        rollout = locked(rollout, RolloutState.RUNNING, doing="halted")
        return _hold(rollout, RolloutState.HALTED, reason=reason, actor=None, now=now)


def _hold(rollout: Rollout, state: RolloutState, *, reason: str, actor: User | None, now: datetime) -> int:
    recalled = deliveries.recall(
        Delivery.objects.of_rollout(rollout.pk), now=now, cause="the rollout was " + state.value
    )
    finishing = Delivery.objects.in_hand_of_rollout(rollout.pk)
    rollout.state, rollout.reason = state, reason[:300]
    if state == RolloutState.HALTED:
        rollout.halted_at = now
    rollout.save(update_fields=["state", "reason", "halted_at"])
    verb = "Paused" if state == RolloutState.PAUSED else "Halted itself"
    note(
        rollout,
        f"{verb} ({reason}): {recalled} offers taken back, {finishing} devices are at it and will finish",
        actor=actor,
        now=now,
    )
    return finishing


def resume(rollout: Rollout, *, actor: User | None, now: datetime) -> None:
    """Go on after a pause or a halt.

    Raises:
        Conflict: it is neither paused nor halted, or its image was withdrawn.
    """
    with transaction.atomic():
        rollout = locked(rollout, RolloutState.PAUSED, RolloutState.HALTED, doing="resumed")
        sent = Delivery.objects.images_to_come(rollout.pk)
        withdrawn = Image.objects.filter(pk__in=sent, status=ImageStatus.WITHDRAWN).first()
        if withdrawn is not None:
            raise Conflict(f"{withdrawn} was withdrawn ({withdrawn.reason}), so it is sent no more.")
        before, reason = rollout.state, rollout.reason
        rollout.state, rollout.reason = RolloutState.RUNNING, ""
        if before == RolloutState.HALTED:
            # who resumes takes what failed so far upon them; only further failures halt again
            failed = Delivery.objects.of_rollout(rollout.pk).filter(phase=Phase.FAILED.value).count()
            rollout.accepted_failures = failed + sum(Delivery.objects.lost_by_ring([rollout.pk]).values())
        rollout.save(update_fields=["state", "reason", "accepted_failures"])
        note(rollout, f"Resumed after it was {before} ({reason})", actor=actor, now=now)


def stop(rollout: Rollout, *, actor: User | None, now: datetime) -> tuple[int, int]:
    """End it for good: how many were withdrawn, and how many are mid-install and will finish.

    Raises:
        Conflict: it is not open.
    """
    with transaction.atomic():
        rollout = locked(rollout, *OPEN_STATES, doing="stopped")
        withdrawn = deliveries.withdraw(
            Delivery.objects.of_rollout(rollout.pk), now=now, cause="the rollout was stopped"
        )
        finishing = Delivery.objects.in_hand_of_rollout(rollout.pk)
        rollout.state, rollout.reason = RolloutState.STOPPED, "stopped by hand"
        rollout.ended_at = None if finishing else now
        rollout.save(update_fields=["state", "reason", "ended_at"])
        note(rollout, f"Stopped: {withdrawn} withdrawn, {finishing} are at it and will finish", actor=actor, now=now)
    return withdrawn, finishing


def set_words(rollout: Rollout, *, name: str, purpose: str, ticket: str, actor: User | None, now: datetime) -> None:
    """Name a rollout, say why it is there and where that is written down: at any time, as it moves no device.

    Raises:
        Conflict: nothing would change.
    """
    words = {"name": name.strip(), "purpose": purpose.strip(), "ticket": ticket.strip()}
    with transaction.atomic():
        rollout = locked(rollout, *RolloutState, doing="named")
        before = {n: getattr(rollout, n) for n in words}
        if before == words:
            raise Conflict("Nothing would change.")
        for n, value in words.items():
            setattr(rollout, n, value)
        rollout.save(update_fields=list(words))
        said = "; ".join(
            f"{n} {before[n] or 'none'} → {value or 'none'}" for n, value in words.items() if before[n] != value
        )
        note(rollout, f"Changed what it is called: {said}"[:300], actor=actor, now=now)


def note(
    rollout: Rollout,
    sentence: str,
    *,
    actor: User | None,
    now: datetime,
    after: dict[str, Any] | None = None,
) -> None:
    """Put on record what was done to a rollout, by a person or (None) the clock, and tell browsers."""
    record(now=now, actor=actor, kind="rollout", object_id=rollout.pk, sentence=sentence, after=after)
    notify("rollout", rollout.pk)


def locked(rollout: Rollout, *states: RolloutState, doing: str) -> Rollout:
    """The rollout, locked, if it is in one of the states.

    Raises:
        Conflict: it is not.
    """
    found: Rollout = Rollout.objects.select_for_update(of=("self",)).get(pk=rollout.pk)
    if found.state not in states:
        message = f"Rollout {found.pk} is {found.get_state_display().lower()}, so it cannot be {doing}."
        raise Conflict(message, state=found.state)
    return found


def open_gate(rollout: Rollout, *, actor: User | None, now: datetime) -> Ring:
    """Open the next ring although its gate is not met; the ring whose gate was opened.

    Raises:
        Conflict: the rollout is not running, every gate is open already, or the same person launched it.
    """
    with transaction.atomic():
        rollout = locked(rollout, RolloutState.RUNNING, doing="taken further by hand")
        if actor is not None and actor.pk == rollout.launched_by_id:
            raise Conflict("You launched this rollout; somebody else must open its gate.")
        ring = rollout.rings.filter(opened_at__isnull=False, gate_met_at__isnull=True).first()
        if ring is None or not rollout.rings.filter(position__gt=ring.position).exists():
            raise Conflict("There is no closed gate before a further ring.")
        ring.gate_met_at = now
        ring.save(update_fields=["gate_met_at"])
        sentence = f"Opened the gate after ring {ring.position}, {ring.name}, by hand, before it was met"
        note(rollout, sentence, actor=actor, now=now)
    return ring


def approve_gate(rollout: Rollout, *, position: int, actor: User | None, now: datetime) -> Ring:
    """Agree that the next ring may open once the rest of the gate is met.

    Raises:
        Conflict: it is not open, the gate asks for nobody, was approved, or the same person launched it.
    """
    with transaction.atomic():
        rollout = locked(rollout, *OPEN_STATES, doing="approved")
        ring = rollout.rings.filter(position=position, needs_approval=True, gate_met_at=None).first()
        if ring is None or ring.opened_at is None:
            raise Conflict(f"The gate after ring {position} does not wait for an approval.")
        if ring.approved_at is not None:
            raise Conflict(f"The gate after ring {position} is approved already.")
        if actor is None or actor.pk == rollout.launched_by_id:
            raise Conflict("You launched this rollout; somebody else must approve it.")
        ring.approved_by, ring.approved_at = actor, now
        ring.save(update_fields=["approved_by", "approved_at"])
        note(rollout, f"Approved the gate after ring {ring.position}, {ring.name}", actor=actor, now=now)
    return ring


def approve_override(rollout: Rollout, *, actor: User | None, now: datetime) -> None:
    """Agree that a rollout goes on in freezes; from now on it does.

    Raises:
        Conflict: it overrides none, it is approved, or the same person set it or launched the rollout.
    """
    with transaction.atomic():
        rollout = locked(rollout, RolloutState.DRAFT, *OPEN_STATES, doing="approved")
        if not rollout.freeze_override_reason or rollout.override_approved_by_id is not None:
            raise Conflict("There is no override of freezes that waits for an approval.")
        if actor is None or actor.pk in (rollout.overridden_by_id, rollout.launched_by_id, rollout.created_by_id):
            raise Conflict("You set this override or launched the rollout; somebody else must approve it.")
        rollout.override_approved_by = actor
        rollout.save(update_fields=["override_approved_by"])
        note(rollout, f"Approved going on in freezes: {rollout.freeze_override_reason}", actor=actor, now=now)


def order_by_rank(ids: Sequence[int], *, actor: User | None, now: datetime) -> None:
    """Put the open rollouts into this order, the highest rank first.

    Raises:
        Invalid: these are not the open rollouts, each once. Conflict: whoever asks is limited, and does not see all.
    """
    if limited_to() is not None:
        raise Conflict("Which rollout goes first is decided by those who see all of them.")
    with transaction.atomic():
        take_lock(RANKS)
        by_id = Rollout.objects.moving().order_by("id").select_for_update()
        found = {r.pk: r for r in sorted(by_id, key=lambda r: (r.rank, r.pk))}
        if sorted(ids) != sorted(found):
            raise Invalid("/order", f"The open rollouts are {', '.join(map(str, found))}; name each of them once.")
        before = list(found)
        # no two open rollouts have the same rank, not even for a moment
        Rollout.objects.filter(pk__in=list(ids)).update(rank=-F("id"))
        for rank, pk in enumerate(ids, 1):
            Rollout.objects.filter(pk=pk).update(rank=rank)
        for pk in ids:
            if before.index(pk) != list(ids).index(pk):
                place, count = list(ids).index(pk) + 1, len(ids)
                note(found[pk], f"Rank changed to {place} of {count} open rollouts", actor=actor, now=now)
