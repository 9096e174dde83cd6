"""Launching: checked when it is asked for, carried out by a worker."""

from collections.abc import Collection, Mapping, Sequence
from datetime import datetime
from types import MappingProxyType
from typing import Any

from django.db import transaction
from django.db.models import Max

from herald.db.locks import RANKS, take_lock
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.http.errors import Conflict, CountMismatch, Invalid, InvalidRule, NobodyThere
from herald.images.models import Image, ImageStatus
from herald.images.signing import permit_downgrade
from herald.live.notify import notify
from herald.people.models import User
from herald.rollouts.compose.drafts import preflight
from herald.rollouts.intervene.lifecycle import locked, note
from herald.rollouts.models import DowngradePermit, ExcludedDevice, Ring, Rollout, RolloutState
from herald.rollouts.preflight.past_failures import past_failures
from herald.rollouts.preflight.plan import Plan, PlannedDevice, plan
from herald.rollouts.watch.sentence import rollout_sentence
from herald_core.deliveries import Kind, Phase
from herald_core.preflight import TAKES_PART, Outcome, leeway


def request_launch(rollout: Rollout, *, expected: int, actor: User | None, now: datetime, despite: str = "") -> Plan:
    """Launch: checked now, carried out by a worker in the transaction's wake. `despite` says why an image is sent that
    failed before.

    Raises:
        Invalid: an image failed before, and no reason is given to send it all the same.
        Conflict: it is no draft, a device has no target, or an image may not be sent.
        NobodyThere: preflight leaves nobody to send it to.
        CountMismatch: `expected` is not the number of devices that the launch reaches, nor within a hundredth of it.
    """
    from herald.rollouts.tasks import carry_out_launch  # tasks import services

    with transaction.atomic():
        rollout = locked(rollout, RolloutState.DRAFT, doing="launched")
        found = preflight(rollout, now=now)
        check_launch(rollout, found, now=now)
        if abs(expected - found.reached) > leeway(found.reached):
            message = (
                f"The launch would reach {found.reached} devices, and {expected} was typed. "
                "Look at the preflight again and type the number it gives."
            )
            raise CountMismatch(message, reached=found.reached)
        failures = past_failures(rollout, found.targets)
        if failures and not despite.strip():
            message = f"{failures[0].sentence}. Say why it is sent all the same."
            raise Invalid("/reason", message, failures=[f.sentence for f in failures])
        rollout.state, rollout.launched_by, rollout.reason = RolloutState.LAUNCHING, actor, ""
        rollout.launched_despite = despite.strip()[:300] if failures else ""
        rollout.save(update_fields=["state", "launched_by", "reason", "launched_despite"])
        carry_out_launch.configure(lock=f"rollout:{rollout.pk}").defer(rollout_id=rollout.pk)
        notify("rollout", rollout.pk)
    return found


def check_launch(rollout: Rollout, found: Plan, *, now: datetime) -> None:
    """Refuse a launch that must not be.

    Raises:
        Conflict: its end is over, an image may not be sent, or the change table does not speak of some devices.
        NobodyThere: nobody would get it.
    """
    if rollout.ends_at is not None and rollout.ends_at <= now:
        raise Conflict(f"It was to end on {rollout.ends_at:%-d %b %Y, %H:%M} UTC, which is over. Give it another end.")
    for change in rollout.changes.select_related("image"):
        image = change.image
        if image is not None and image.status != ImageStatus.APPROVED:
            raise Conflict(f"{image} is {image.get_status_display().lower()}, so it cannot be sent.")
    if found.audience == 0:
        raise NobodyThere("The audience is empty: the groups have no members, or the exclusions take them all out.")
    unset = found.outcomes[Outcome.NO_TARGET]
    if unset:
        raise Conflict(
            f"{unset} devices of the audience have no target. Choose one for their model, or leave them out.",
            without_target=unset,
        )
    if found.reached == 0:
        raise NobodyThere(f"Of {found.audience} devices none would take part; the preflight says why.")


def launch(rollout: Rollout, *, now: datetime) -> Plan | None:
    """Write the deliveries of a rollout that was asked to launch. Safe to repeat: the second time
    does nothing. None where it was launched already or the launch failed."""
    with transaction.atomic():
        rollout = Rollout.objects.select_for_update().get(pk=rollout.pk)
        if rollout.state != RolloutState.LAUNCHING:
            return None
        rings = list(rollout.rings.select_related("group"))
        try:
            found = plan(rollout, rings, now=now)
            check_launch(rollout, found, now=now)
        except (Conflict, NobodyThere, InvalidRule) as refusal:
            _fail(rollout, refusal.detail, now)
            return None
        write_devices(rollout, rings, found.devices, _positions(found), now)
        take_lock(RANKS)
        lowest = Rollout.objects.moving().aggregate(lowest=Max("rank"))["lowest"] or 0
        rollout.state, rollout.launched_at, rollout.rank = RolloutState.RUNNING, now, lowest + 1
        rollout.audience_checked_at = now
        rollout.save(update_fields=["state", "launched_at", "rank", "audience_checked_at"])
        superseded = supersede_others(rollout, now)
        note(
            rollout,
            f"Launched to {found.reached} devices: {rollout_sentence(rollout)}{_despite(rollout)}",
            after={o.value: n for o, n in found.outcomes.items()} | ({"superseded": superseded} if superseded else {}),
            actor=rollout.launched_by,
            now=now,
        )
    return found


def fail_launch(rollout_id: int, reason: str, *, now: datetime) -> None:
    """Note that a launch failed; the rollout is a draft again, and nothing of it was written."""
    with transaction.atomic():
        rollout = Rollout.objects.select_for_update().filter(pk=rollout_id, state=RolloutState.LAUNCHING).first()
        if rollout is not None:
            _fail(rollout, reason, now)


def _fail(rollout: Rollout, reason: str, now: datetime) -> None:
    rollout.state, rollout.reason = RolloutState.DRAFT, reason[:300]
    rollout.save(update_fields=["state", "reason"])
    note(rollout, f"The launch failed: {reason}", actor=None, now=now)


def _despite(rollout: Rollout) -> str:
    return f" An image of it had failed before; sent all the same: {rollout.launched_despite}" * bool(
        rollout.launched_despite
    )


def _positions(found: Plan) -> dict[int, int]:
    return {d.id: r for d, r in zip(found.taking_part, found.ring_of, strict=True)}


def write_devices(
    rollout: Rollout,
    rings: Sequence[Ring],
    devices: Sequence[PlannedDevice],
    ring_of: dict[int, int],
    now: datetime,
    *,
    late: bool = False,
    held: Mapping[int, str] = MappingProxyType({}),
) -> None:
    """Write what becomes of each device: its first step, confirmed where it runs the target, or left out and why.

    `ring_of` holds the index of the ring of each device that takes part; -1 for none. `late` marks devices that joined
    after the launch; `held` says why some of them are held back.
    """
    starts = max(now, rollout.starts_at or now)
    common: dict[str, Any] = {
        "kind": Kind.INSTALL.value,
        "rollout_id": rollout.pk,
        "phase_since": now,
        "created_at": now,
        "not_before": starts,
        "not_after": rollout.end_for(starts),
        "max_attempts": rollout.max_attempts,
        "joined_late": late,
    }
    permit_downgrades(rollout, {step.id for device in devices for step in device.steps}, now)
    reasons = dict(rollout.taken_out.values_list("device_id", "reason"))
    rows, left_out = [], []
    for device in devices:
        if device.outcome in TAKES_PART and ring_of[device.id] >= 0:
            ring, phase = rings[ring_of[device.id]].pk, Phase.WAITING
        elif device.outcome is Outcome.ALREADY and device.steps:
            ring, phase = rings[-1].pk, Phase.CONFIRMED
        else:
            outcome, reason = device.outcome.value, reasons.get(device.id, "")
            left_out.append(ExcludedDevice(rollout_id=rollout.pk, device_id=device.id, outcome=outcome, reason=reason))
            continue
        steps = device.steps
        rows.append(
            Delivery(
                device_id=device.id,
                ring_id=ring,
                phase=phase.value,
                from_version=device.firmware,
                image_id=steps[0].id,
                target_id=steps[-1].id,
                hops=len(steps),
                remaining_image_ids=[s.id for s in steps[1:]],
                spread_position=rollout.spread_position_of(device.id),
                hold_reason=held.get(device.id, ""),
                **common,
            )
        )
    deliveries.write_deliveries(rows)
    ExcludedDevice.objects.bulk_create(left_out, batch_size=10_000)


def permit_downgrades(rollout: Rollout, image_ids: Collection[int], now: datetime) -> None:
    """Sign leave to go down to these images, where the rollout may take devices down, and it is not signed yet."""
    if not (rollout.downgrades or rollout.rolls_back_id) or not image_ids:
        return
    known = set(rollout.downgrade_permits.values_list("image_id", flat=True))
    until = rollout.end_for(max(now, rollout.starts_at or now))
    missing = Image.objects.filter(pk__in=set(image_ids) - known)
    DowngradePermit.objects.bulk_create(
        [
            DowngradePermit(
                rollout=rollout, image=image, jws=permit_downgrade(rollout.pk, image.version, not_after=until)
            )
            for image in missing
        ],
        ignore_conflicts=True,
    )


def supersede_others(rollout: Rollout, now: datetime) -> int:
    """Take back what other rollouts were to bring to the same devices, where this one brings a newer version, or
    restores what they had; how many. What a device has begun it finishes."""
    mine = Delivery.objects.of_rollout(rollout.pk).open()
    if rollout.rolls_back_id is not None:
        older = Delivery.objects.open_in_others(rollout.pk).filter(device__in=mine.values("device_id"))
    else:
        older = Delivery.objects.open_in_others(rollout.pk).older_than_in(mine)
    return deliveries.supersede(older, now=now, cause=f"rollout {rollout.pk} takes its place")
