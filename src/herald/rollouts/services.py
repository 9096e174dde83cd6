"""Verbs on rollouts: draft, preflight, launch, pause, resume, stop."""

import random
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, time, timedelta
from typing import Any

from django.db import transaction

from herald.access.models import User
from herald.api.errors import Conflict, CountMismatch, Invalid, NobodyThere
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.groups.models import Group
from herald.images.models import Image, ImageStatus
from herald.live.notify import notify
from herald.record.services import record
from herald.rollouts.audience import Plan, plan
from herald.rollouts.models import LeftOut, Ring, Rollout, RolloutState
from herald.rollouts.sentence import rollout_sentence
from herald_core.deliveries import Kind, Phase
from herald_core.preflight import TAKES_PART, Outcome
from herald_core.rings.assignment import RingKind

DAY = timedelta(days=1)


@dataclass(frozen=True, kw_only=True)
class RingDraft:
    """One ring as it is written down."""

    name: str
    kind: RingKind
    group: Group | None = None
    share_pct: float | None = None
    number: int | None = None
    confirmed_pct: float = 95.0
    soak_minutes: int = 60


@dataclass(frozen=True, kw_only=True)
class RolloutDraft:
    """A rollout as it is written down, before anything happens."""

    image: Image
    include: Sequence[Group]
    rings: Sequence[RingDraft]
    exclude: Sequence[Group] = ()
    window_start: time | None = None
    window_end: time | None = None
    window_days: Sequence[int] = ()
    starts_at: datetime | None = None
    give_up_after_hours: int = 14 * 24
    failure_limit_pct: float = 2.0
    failure_count_limit: int | None = None
    at_once: int = 200
    max_attempts: int = 2


_COLUMNS = (
    "image",
    "window_start",
    "window_end",
    "window_days",
    "starts_at",
    "give_up_after_hours",
    "failure_limit_pct",
    "failure_count_limit",
    "at_once",
    "max_attempts",
)


def save_draft(draft: RolloutDraft, *, actor: User | None, now: datetime, rollout: Rollout | None = None) -> Rollout:
    """Write a draft down, new or in place of what `rollout` was.

    Raises:
        Invalid: a ring or the window does not fit.
        Conflict: the rollout was launched already.
    """
    _check(draft)
    with transaction.atomic():
        if rollout is None:
            rollout = Rollout(seed=random.SystemRandom().randrange(2**62), created_at=now, created_by=actor)
        else:
            rollout = _locked(rollout, RolloutState.DRAFT, doing="changed")
        for name in _COLUMNS:
            setattr(rollout, name, getattr(draft, name))
        rollout.window_days = list(draft.window_days)
        rollout.save()
        rollout.include.set(draft.include)
        rollout.exclude.set(draft.exclude)
        rollout.rings.all().delete()
        Ring.objects.bulk_create(
            [
                Ring(rollout=rollout, position=i, **{**r.__dict__, "kind": r.kind.value})
                for i, r in enumerate(draft.rings, 1)
            ]
        )
    return rollout


def _check(draft: RolloutDraft) -> None:
    if not draft.rings:
        raise Invalid("/rings", "A rollout has at least one ring.")
    if (draft.window_start is None) != (draft.window_end is None):
        raise Invalid("/window_end", "A window has a start and an end; give both or neither.")
    if draft.window_start is not None and draft.window_start == draft.window_end:
        raise Invalid("/window_end", "The window ends when it starts, so it would never be open.")
    for position, ring in enumerate(draft.rings):
        wanted = {RingKind.GROUP: ring.group, RingKind.SHARE: ring.share_pct, RingKind.NUMBER: ring.number}
        if ring.kind in wanted and not wanted[ring.kind]:
            raise Invalid(f"/rings/{position}", f"Ring “{ring.name}” does not say whom it takes.")
    minutes = draft.image.expected_minutes
    if draft.window_start and draft.window_end and _length(draft.window_start, draft.window_end) < minutes:
        message = f"The window is shorter than the {minutes} minutes that the install takes, so none would start."
        raise Invalid("/window_end", message)


def _length(start: time, end: time) -> int:
    """Minutes from start to end, across midnight where the end is not later."""
    minutes = (end.hour * 60 + end.minute) - (start.hour * 60 + start.minute)
    return minutes if minutes > 0 else minutes + 24 * 60


def preflight(rollout: Rollout, *, now: datetime) -> Plan:
    """Who would take part in which ring, and who not and why, as things stand."""
    return plan(rollout, list(rollout.rings.select_related("group")), now=now)


def request_launch(rollout: Rollout, *, expected: int, actor: User | None, now: datetime) -> Plan:
    """Launch: checked now, carried out by a worker in the transaction's wake.

    Raises:
        Conflict: it is no draft, or its image may not be sent.
        NobodyThere: preflight leaves nobody to send it to.
        CountMismatch: `expected` is not the number of devices that the launch reaches.
    """
    from herald.rollouts.tasks import carry_out_launch  # tasks import services

    with transaction.atomic():
        rollout = _locked(rollout, RolloutState.DRAFT, doing="launched")
        found = preflight(rollout, now=now)
        check_launch(rollout, found)
        if expected != found.reached:
            message = (
                f"The launch would reach {found.reached} devices, and {expected} was typed. "
                "Look at the preflight again and type the number it gives."
            )
            raise CountMismatch(message, reached=found.reached)
        rollout.state, rollout.launched_by, rollout.reason = RolloutState.LAUNCHING, actor, ""
        rollout.save(update_fields=["state", "launched_by", "reason"])
        carry_out_launch.configure(lock=f"rollout:{rollout.pk}").defer(rollout_id=rollout.pk)
        notify("rollout", rollout.pk)
    return found


def check_launch(rollout: Rollout, found: Plan) -> None:
    """Refuse a launch that must not be.

    Raises:
        Conflict: its image may not be sent.
        NobodyThere: nobody would get it.
    """
    if rollout.image.status != ImageStatus.APPROVED:
        raise Conflict(f"{rollout.image} is {rollout.image.get_status_display().lower()}, so it cannot be sent.")
    if found.audience == 0:
        raise NobodyThere("The audience is empty: the groups have no members, or the exclusions take them all out.")
    if found.reached == 0:
        raise NobodyThere(f"Of {found.audience} devices none would take part; the preflight says why.")


def launch(rollout: Rollout, *, now: datetime) -> Plan | None:
    """Write the deliveries of a rollout that was asked to launch. Safe to repeat: the second time
    does nothing. None where it was launched already or came to nothing."""
    with transaction.atomic():
        rollout = Rollout.objects.select_for_update().get(pk=rollout.pk)
        if rollout.state != RolloutState.LAUNCHING:
            return None
        rings = list(rollout.rings.select_related("group"))
        found = plan(rollout, rings, now=now)
        try:
            check_launch(rollout, found)
        except (Conflict, NobodyThere) as refusal:
            rollout.state, rollout.reason = RolloutState.DRAFT, refusal.detail[:300]
            rollout.save(update_fields=["state", "reason"])
            notify("rollout", rollout.pk)
            return None
        _write(rollout, rings, found, now)
        rollout.state, rollout.launched_at = RolloutState.RUNNING, now
        rollout.save(update_fields=["state", "launched_at"])
        note(
            rollout,
            f"Launched to {found.reached} devices: {rollout_sentence(rollout)}",
            after={o.value: n for o, n in found.outcomes.items()},
            actor=rollout.launched_by,
            now=now,
        )
    return found


def _write(rollout: Rollout, rings: Sequence[Ring], found: Plan, now: datetime) -> None:
    ring_ids = [r.pk for r in rings]
    position = {d.id: r for d, r in zip(found.taking_part, found.ring_of, strict=True)}
    common: dict[str, Any] = {
        "kind": Kind.INSTALL.value,
        "rollout_id": rollout.pk,
        "image_id": rollout.image_id,
        "phase_since": now,
        "created_at": now,
        "not_before": rollout.starts_at or now,
        "not_after": max(now, rollout.starts_at or now) + timedelta(hours=rollout.give_up_after_hours),
        "max_attempts": rollout.max_attempts,
    }
    waiting, left_out = [], []
    for device in found.devices:
        if device.outcome in TAKES_PART and position[device.id] >= 0:
            ring, phase = ring_ids[position[device.id]], Phase.WAITING
        elif device.outcome is Outcome.ALREADY:
            ring, phase = ring_ids[-1], Phase.CONFIRMED
        else:
            left_out.append(LeftOut(rollout_id=rollout.pk, device_id=device.id, outcome=device.outcome.value))
            continue
        waiting.append(
            Delivery(device_id=device.id, ring_id=ring, phase=phase.value, from_version=device.firmware, **common)
        )
    deliveries.write_deliveries(waiting)
    LeftOut.objects.bulk_create(left_out, batch_size=10_000)


def pause(rollout: Rollout, *, actor: User | None, now: datetime) -> int:
    """Offer nothing new for now; how many devices are mid-install and will finish.

    Raises:
        Conflict: it is not running.
    """
    with transaction.atomic():
        rollout = _locked(rollout, RolloutState.RUNNING, doing="paused")
        return _hold(rollout, RolloutState.PAUSED, reason="paused by hand", actor=actor, now=now)


def halt(rollout: Rollout, *, reason: str, now: datetime) -> int:
    """The rollout stops itself; how many devices are mid-install and will finish."""
    with transaction.atomic():
        rollout = _locked(rollout, RolloutState.RUNNING, doing="halted")
        return _hold(rollout, RolloutState.HALTED, reason=reason, actor=None, now=now)


def _hold(rollout: Rollout, state: RolloutState, *, reason: str, actor: User | None, now: datetime) -> int:
    recalled = deliveries.recall(
        Delivery.objects.of_rollout(rollout.pk), now=now, cause="the rollout was " + state.value
    )
    finishing = Delivery.objects.in_hand_of_rollout(rollout.pk)
    rollout.state, rollout.reason = state, reason[:300]
    rollout.save(update_fields=["state", "reason"])
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
        rollout = _locked(rollout, RolloutState.PAUSED, RolloutState.HALTED, doing="resumed")
        if rollout.image.status == ImageStatus.WITHDRAWN:
            raise Conflict(f"{rollout.image} was withdrawn ({rollout.image.reason}), so it is sent no more.")
        before, reason = rollout.state, rollout.reason
        rollout.state, rollout.reason = RolloutState.RUNNING, ""
        if before == RolloutState.HALTED:
            # who resumes takes what failed so far upon them; only further failures halt again
            failed = Delivery.objects.of_rollout(rollout.pk).filter(phase=Phase.FAILED.value).count()
            rollout.accepted_failures = failed
        rollout.save(update_fields=["state", "reason", "accepted_failures"])
        note(rollout, f"Resumed after it was {before} ({reason})", actor=actor, now=now)


def stop(rollout: Rollout, *, actor: User | None, now: datetime) -> tuple[int, int]:
    """End it for good: how many were withdrawn, and how many are mid-install and will finish.

    Raises:
        Conflict: it is not open.
    """
    with transaction.atomic():
        rollout = _locked(rollout, RolloutState.RUNNING, RolloutState.PAUSED, RolloutState.HALTED, doing="stopped")
        withdrawn = deliveries.withdraw(
            Delivery.objects.of_rollout(rollout.pk), now=now, cause="the rollout was stopped"
        )
        finishing = Delivery.objects.in_hand_of_rollout(rollout.pk)
        rollout.state, rollout.reason = RolloutState.STOPPED, "stopped by hand"
        rollout.ended_at = None if finishing else now
        rollout.save(update_fields=["state", "reason", "ended_at"])
        note(rollout, f"Stopped: {withdrawn} withdrawn, {finishing} are at it and will finish", actor=actor, now=now)
    return withdrawn, finishing


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


def delete_draft(rollout: Rollout) -> None:
    """Throw a draft away.

    Raises:
        Conflict: it was launched; then it is part of the record.
    """
    with transaction.atomic():
        _locked(rollout, RolloutState.DRAFT, doing="thrown away").delete()


def _locked(rollout: Rollout, *states: RolloutState, doing: str) -> Rollout:
    """The rollout, locked, if it is in one of the states."""
    locked = Rollout.objects.select_for_update(of=("self",)).select_related("image").get(pk=rollout.pk)
    if locked.state not in states:
        message = f"Rollout {locked.pk} is {locked.get_state_display().lower()}, so it cannot be {doing}."
        raise Conflict(message, state=locked.state)
    return locked


def open_gate(rollout: Rollout, *, actor: User | None, now: datetime) -> Ring:
    """Open the next ring although its gate is not met; the ring whose gate was opened.

    Raises:
        Conflict: the rollout is not running, or every gate is open already.
    """
    with transaction.atomic():
        rollout = _locked(rollout, RolloutState.RUNNING, doing="taken further by hand")
        ring = rollout.rings.filter(opened_at__isnull=False, gate_met_at__isnull=True).first()
        if ring is None or not rollout.rings.filter(position__gt=ring.position).exists():
            raise Conflict("There is no closed gate before a further ring.")
        ring.gate_met_at = now
        ring.save(update_fields=["gate_met_at"])
        sentence = f"Opened the gate after ring {ring.position}, {ring.name}, by hand, before it was met"
        note(rollout, sentence, actor=actor, now=now)
    return ring
