"""An audience that moves: devices that join or leave a standing rollout, groups added to an open one, and looking
again at a ring's devices when it opens."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import QuerySet

from herald.attention.models import ItemKind
from herald.attention.services import close_item, open_item
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.groups.audience import audience_query, members_of
from herald.groups.models import Group, MembershipEvent
from herald.groups.rules import facts_read
from herald.http.errors import Conflict, InvalidRule, NobodyThere
from herald.people.models import User
from herald.rollouts.intervene.lifecycle import locked, note
from herald.rollouts.late_joiners import LATE_WITHIN, TOO_MANY_LATE, late_limit, late_waiting, room_for_late
from herald.rollouts.launch.launching import permit_downgrades, supersede_others, write_devices
from herald.rollouts.models import OPEN_STATES, ExcludedDevice, Ring, Rollout, RolloutState
from herald.rollouts.preflight.plan import narrowed, planned, ring_plans
from herald_core.deliveries import Cause, Phase
from herald_core.preflight import LEFT_OUT_WORDS, TAKES_PART, Outcome
from herald_core.rings.assignment import RingPlan
from herald_core.text import in_words

#: a device that joined and left a group more often than this within a day is unsettled
SETTLED_CHANGES = 4
#: a standing audience is looked at so often
EVERY = timedelta(seconds=15)


def recheck_ring(rollout: Rollout, ring: Ring, *, now: datetime, when: str = "as its ring opened") -> int:
    """Look again at the waiting devices of a ring: who cannot take part any more is withdrawn with the reason, and
    whoever runs another version by now gets another way. How many were withdrawn."""
    waiting = Delivery.objects.of_rollout(rollout.pk).filter(ring=ring, phase=Phase.WAITING.value)
    rows = waiting.order_by().values_list("device_id", "id", "image_id", "remaining_image_ids")
    by_device = {device: (pk, image, tuple(ahead)) for device, pk, image, ahead in rows}
    steps: dict[tuple[int, int], tuple[int, ...]] = {}
    out: dict[Outcome, list[int]] = {}
    for device in planned(rollout, Device.objects.filter(pk__in=waiting.values("device_id")), now):
        if device.id not in by_device:  # it waits again since a moment ago
            continue
        pk, image, ahead = by_device[device.id]
        way = tuple(s.id for s in device.steps)
        if device.outcome not in TAKES_PART and not way:
            out.setdefault(device.outcome, []).append(pk)
        elif way != (image, *ahead):
            steps[pk, way[0]] = way[1:]
    permit_downgrades(rollout, {i for (_, first), rest in steps.items() for i in (first, *rest)}, now)
    deliveries.take_steps(steps)
    for outcome, ids in out.items():
        cause = f"{when}, {LEFT_OUT_WORDS[outcome]}"
        deliveries.withdraw(Delivery.objects.filter(id__any=ids), now=now, cause=cause)
    return sum(map(len, out.values()))


def sync_audience(rollout: Rollout, *, now: datetime) -> None:
    """Let devices that joined a standing audience take part, and withdraw those that left it and have not begun."""
    if not rollout.follows_audience or (rollout.audience_checked_at and now - rollout.audience_checked_at < EVERY):
        return
    with transaction.atomic():
        rollout = Rollout.objects.select_for_update().get(pk=rollout.pk)
        if rollout.state != RolloutState.RUNNING:
            return
        # who no longer fits the rule stays: a tag that is renamed must not empty a rollout; who joins must fit it
        audience = audience_query(rollout)
        unsettled = _unsettled(rollout, now)
        left = deliveries.withdraw(
            Delivery.objects.of_rollout(rollout.pk)
            .exclude(device__in=audience.values("pk"))
            .exclude(device_id__any=unsettled),
            now=now,
            cause=Cause.LEFT_AUDIENCE,
        )
        fits = _eligible(rollout, audience, now).exclude(id__any=unsettled)
        joined = _add_devices(rollout, fits, now, late=True) + _withdraw_departed(rollout, fits, now)
        rollout.audience_checked_at = now
        rollout.save(update_fields=["audience_checked_at"])
        _say_who_waits(rollout, now)
        if joined or left:
            note(rollout, f"The audience moved: {joined} devices joined, {left} left it", actor=None, now=now)


def _say_who_waits(rollout: Rollout, now: datetime) -> None:
    waiting = late_waiting(rollout)
    about: dict[str, Any] = {"object_kind": "rollout", "object_id": rollout.pk, "now": now}
    if waiting:
        cause = f"{waiting} devices joined rollout {rollout.pk} beyond its limit of {late_limit(rollout)} in 24 h"
        open_item(ItemKind.LATE_JOINERS, cause=f"{cause}; they wait to be let in", count=waiting, **about)
    else:
        close_item(ItemKind.LATE_JOINERS, **about)


def _unsettled(rollout: Rollout, now: datetime) -> list[int]:
    """Devices that keep joining and leaving a group of the rollout: its last decision about them stands."""
    since, devices = now - LATE_WITHIN, set()
    for group in {*rollout.include.all(), *rollout.exclude.all()}:
        flapping = MembershipEvent.objects.flapping(group.pk, since, more_than=SETTLED_CHANGES)
        devices.update(flapping)
        about: dict[str, Any] = {"object_kind": "group", "object_id": group.pk, "now": now}
        if flapping:
            facts = ", ".join(facts_read(group)) or "its members"
            cause = f"{len(flapping)} devices keep joining and leaving “{group.name}”, which goes by {facts}"
            open_item(ItemKind.UNSETTLED, cause=cause, count=len(flapping), **about)
        else:
            close_item(ItemKind.UNSETTLED, **about)
    return sorted(devices)


@dataclass(frozen=True, kw_only=True)
class Extension:
    """What more groups bring: devices that take part, those that have the version, those left out, and those that
    the rollout has already, to whom nothing is sent again."""

    joins: int
    already: int
    left_out: int
    has_already: int


def preview_extension(rollout: Rollout, groups: Sequence[Group], *, now: datetime) -> Extension:
    """What extending the rollout to these groups would do."""
    added = narrowed(rollout, members_of(groups, rollout.exclude.all()), now)
    fresh = list(planned(rollout, _new_to(rollout, added), now))
    joins = sum(d.outcome in TAKES_PART for d in fresh)
    already = sum(d.outcome is Outcome.ALREADY for d in fresh)
    return Extension(
        joins=joins,
        already=already,
        left_out=len(fresh) - joins - already,
        has_already=added.count() - len(fresh),
    )


def extend(rollout: Rollout, groups: Sequence[Group], *, actor: User | None, now: datetime) -> Extension:
    """Let the members of more groups take part in an open rollout.

    Raises:
        Conflict: it is not open, or puts another back. NobodyThere: the groups bring nobody new.
    """
    with transaction.atomic():
        rollout = locked(rollout, *OPEN_STATES, doing="extended")
        if rollout.rolls_back_id is not None:
            raise Conflict("A rollout that puts another back is for the devices of that one only.")
        told = preview_extension(rollout, groups, now=now)
        if told.joins == 0:
            raise NobodyThere("These groups bring nobody who would take part.")
        rollout.include.add(*groups)
        _add_devices(rollout, narrowed(rollout, members_of(groups, rollout.exclude.all()), now), now)
        names = in_words([g.name for g in groups])
        note(rollout, f"Extended to {names}: {told.joins} devices more"[:300], actor=actor, now=now)
    return told


def _new_to(rollout: Rollout, audience: "QuerySet[Device]") -> "QuerySet[Device]":
    known = Delivery.objects.of_rollout(rollout.pk).values("device_id")
    left_out = ExcludedDevice.objects.filter(rollout=rollout).values("device_id")
    return audience.exclude(pk__in=known).exclude(pk__in=left_out)


def _add_devices(rollout: Rollout, audience: "QuerySet[Device]", now: datetime, *, late: bool = False) -> int:
    """Write deliveries for the devices of the audience that are new to the rollout; how many take part.

    Those that joined by themselves (`late`) are held back beyond the limit of a day.
    """
    devices = list(planned(rollout, _new_to(rollout, audience), now))
    if not devices:
        return 0
    rings = list(rollout.rings.select_related("group"))
    plans = ring_plans(rings)
    ring_of = {d.id: _ring_for(d.id, rings, plans) for d in devices}
    held: frozenset[int] = frozenset()
    if late:
        taking_part = sorted(d.id for d in devices if d.outcome in TAKES_PART)
        held = frozenset(taking_part[room_for_late(rollout, now) :])
    write_devices(rollout, rings, devices, ring_of, now, late=late, held=dict.fromkeys(held, TOO_MANY_LATE))
    supersede_others(rollout, now)
    return sum(d.outcome in TAKES_PART for d in devices)


def _eligible(rollout: Rollout, audience: "QuerySet[Device]", now: datetime) -> "QuerySet[Device]":
    """Those whom the rollout's rule matches. Where what it names is no more, nobody, and the audience is fixed from now
    on, which is put on record."""
    try:
        return narrowed(rollout, audience, now)
    except InvalidRule as refusal:
        Rollout.objects.filter(pk=rollout.pk).update(follows_audience=False)
        why = f"Its audience is fixed from now on, as its rule cannot be read any more: {refusal.detail}"
        note(rollout, why[:300], actor=None, now=now)
        return Device.objects.none()


def _withdraw_departed(rollout: Rollout, audience: "QuerySet[Device]", now: datetime) -> int:
    """Let devices go on that left the audience before they had begun, and are in it again; how many."""
    mine = Delivery.objects.of_rollout(rollout.pk)
    back = mine.withdrawn_because(Cause.LEFT_AUDIENCE).filter(device__in=audience.values("pk"))
    rings = set(back.values_list("ring_id", flat=True))
    if not rings:
        return 0
    count = deliveries.rejoin(back, now=now, cause="is in the audience again")
    for ring in rollout.rings.filter(pk__in=rings):
        recheck_ring(rollout, ring, now=now, when="as it came back")
    supersede_others(rollout, now)
    return count


def _ring_for(device: int, rings: Sequence[Ring], plans: Sequence[RingPlan]) -> int:
    """A ring that is not open yet and names a group with the device; otherwise the last open one."""
    for index, ring in enumerate(rings):
        if ring.opened_at is None and device in plans[index].members:
            return index
    opened = [i for i, ring in enumerate(rings) if ring.opened_at is not None]
    return opened[-1] if opened else 0
