"""Rings that have not opened: added, split, put in another order, removed, or told other gates, after the launch.

Nobody in them has been asked for anything yet, so their devices are assigned anew, as at the launch: from the first
ring whose devices would differ. Rings before that one keep their devices.
"""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from django.db import transaction
from django.db.models import QuerySet

from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.http.errors import Conflict, Invalid
from herald.people.models import User
from herald.rollouts.compose.drafts import RingDraft, check_rings
from herald.rollouts.intervene.lifecycle import locked, note
from herald.rollouts.models import OPEN_STATES, Ring, Rollout, StoredForecast
from herald.rollouts.preflight.plan import NOT_DRAWN, planned, ring_plans
from herald_core.deliveries import Phase
from herald_core.rings.assignment import assign
from herald_core.text import in_words


@dataclass(frozen=True, kw_only=True)
class RingAhead:
    """A ring that is to be ahead: a new one, or the one with this id."""

    id: int | None
    draft: RingDraft


@dataclass(frozen=True, kw_only=True)
class RingOutcome:
    """A ring as it would be. `was` is its place now and `before` the devices that wait in it now, both None where it is
    new; `after` are those that would."""

    position: int
    name: str
    was: int | None
    before: int | None
    after: int


@dataclass(frozen=True, kw_only=True)
class RingRemoved:
    position: int
    name: str
    devices: int


@dataclass(frozen=True, kw_only=True)
class RingsOutcome:
    """What the change does. `moving` waiting devices would be in another ring than now, `unplaced` in none, which is
    refused; `same` says that nothing would change."""

    rings: Sequence[RingOutcome]
    removed: Sequence[RingRemoved]
    moving: int
    unplaced: int
    same: bool


@dataclass(frozen=True, kw_only=True)
class _Reading:
    """The rings ahead now, and what becomes of the devices that wait in them. The first `kept` rings keep theirs; of
    the others each device has, by its id, its ring now, and the place of its new one: -1 for none."""

    ahead: Sequence[Ring]
    sizes: Mapping[int, int]
    kept: int
    now_in: Mapping[int, int]
    places: Mapping[int, int]


def preview_rings_ahead(rollout: Rollout, wanted: Sequence[RingAhead], *, now: datetime) -> RingsOutcome:
    """What having these rings ahead would do; changes nothing.

    Raises:
        Invalid: a ring does not say whom it takes, or is not one that is ahead. Conflict: all rings are open.
    """
    return _outcome(_read(rollout, _ahead(rollout), wanted, now), wanted)


def change_rings_ahead(
    rollout: Rollout, wanted: Sequence[RingAhead], *, actor: User | None, now: datetime
) -> RingsOutcome:
    """Put these rings in the place of all that have not opened; what that did.

    Raises:
        Invalid: as in `preview_rings_ahead`, or a device would be in no ring.
        Conflict: the rollout is not open, all its rings are, or nothing would change.
    """
    with transaction.atomic():
        rollout = locked(rollout, *OPEN_STATES, doing="changed")
        found = _read(rollout, _ahead(rollout, lock=True), wanted, now)
        told = _outcome(found, wanted)
        if told.same:
            raise Conflict("Nothing would change.")
        if told.unplaced:
            message = f"{told.unplaced} devices would be in no ring. Let the last ring take all the rest."
            raise Invalid("/rings", message, unplaced=told.unplaced)
        _write(rollout, found, wanted)
        # it speaks of rings by their places, which are others now; the next one is made within minutes
        StoredForecast.objects.filter(rollout=rollout).delete()
        words = in_words([f"{r.name} ({r.after})" for r in told.rings])
        note(rollout, f"Changed the rings ahead: {words}"[:300], actor=actor, now=now)
    return told


def _ahead(rollout: Rollout, *, lock: bool = False) -> list[Ring]:
    """The rings that have not opened, in their order.

    Raises:
        Conflict: there is none.
    """
    rows = Ring.objects.filter(rollout=rollout, opened_at=None).order_by("position").select_related("group")
    found = list(rows.select_for_update(of=("self",)) if lock else rows)
    if not found:
        raise Conflict("All rings are open, so none is ahead.")
    return found


def _check(ahead: Sequence[Ring], wanted: Sequence[RingAhead]) -> None:
    check_rings([w.draft for w in wanted], "/rings")
    known, seen = {r.pk for r in ahead}, set()
    for place, ring in enumerate(wanted):
        if ring.id is None:
            continue
        if ring.id not in known:
            message = f"Ring “{ring.draft.name}” is open by now, or none of this rollout; look again."
            raise Invalid(f"/rings/{place}/id", message)
        if ring.id in seen:
            raise Invalid(f"/rings/{place}/id", f"Ring “{ring.draft.name}” is named twice.")
        seen.add(ring.id)


def _whom(ring: Ring | RingDraft) -> tuple[object, ...]:
    group = ring.group.pk if ring.group else None
    return (str(ring.kind), group, ring.share_pct, ring.number)


def _kept(ahead: Sequence[Ring], wanted: Sequence[RingAhead]) -> int:
    """How many rings, from the first one ahead, are the ones that they were and take whom they took."""
    for place, (ring, other) in enumerate(zip(ahead, wanted, strict=False)):
        if other.id != ring.pk or _whom(ring) != _whom(other.draft):
            return place
    return min(len(ahead), len(wanted))


def _read(rollout: Rollout, ahead: Sequence[Ring], wanted: Sequence[RingAhead], now: datetime) -> _Reading:
    _check(ahead, wanted)
    kept = _kept(ahead, wanted)
    waiting = dict(_mine(rollout, ahead).filter(phase=Phase.WAITING.value).values_list("device_id", "ring_id"))
    stays = {r.pk for r in ahead[:kept]}
    now_in = {device: ring for device, ring in waiting.items() if ring not in stays}
    devices = list(planned(rollout, Device.objects.filter(id__any=list(now_in)), now)) if now_in else []
    drafts = [w.draft for w in wanted[kept:]]
    places = assign(
        [d.id for d in devices],
        [d.strata for d in devices],
        ring_plans([Ring(kind=d.kind, group=d.group, share_pct=d.share_pct, number=d.number) for d in drafts]),
        rollout.seed,
        drawable=[d.outcome not in NOT_DRAWN for d in devices],
    )
    return _Reading(
        ahead=ahead,
        sizes=Counter(waiting.values()),
        kept=kept,
        now_in=now_in,
        places={d.id: place + kept if place >= 0 else -1 for d, place in zip(devices, places, strict=True)},
    )


def _mine(rollout: Rollout, rings: Sequence[Ring]) -> "QuerySet[Delivery]":
    return Delivery.objects.of_rollout(rollout.pk).filter(ring__in=[r.pk for r in rings]).order_by()


def _outcome(found: _Reading, wanted: Sequence[RingAhead]) -> RingsOutcome:
    by_id, first = {r.pk: r for r in found.ahead}, found.ahead[0].position
    drawn = Counter(found.places.values())
    ids = [w.id for w in wanted]
    return RingsOutcome(
        rings=[
            RingOutcome(
                position=first + place,
                name=w.draft.name,
                was=by_id[w.id].position if w.id else None,
                before=found.sizes.get(w.id, 0) if w.id else None,
                after=found.sizes.get(found.ahead[place].pk, 0) if place < found.kept else drawn[place],
            )
            for place, w in enumerate(wanted)
        ],
        removed=[
            RingRemoved(position=r.position, name=r.name, devices=found.sizes.get(r.pk, 0))
            for r in found.ahead
            if r.pk not in ids
        ],
        moving=sum(place < 0 or ids[place] != found.now_in[device] for device, place in found.places.items()),
        unplaced=drawn[-1],
        same=ids == [r.pk for r in found.ahead]
        and not any(_differs(r, w.draft) for r, w in zip(found.ahead, wanted, strict=True)),
    )


def _differs(ring: Ring, draft: RingDraft) -> bool:
    return any(getattr(ring, name) != value for name, value in draft.__dict__.items())


def _write(rollout: Rollout, found: _Reading, wanted: Sequence[RingAhead]) -> None:
    """Write the rings, put each device into its own, and remove what is no more wanted."""
    ahead, by_id = found.ahead, {r.pk: r for r in found.ahead}
    first = ahead[0].position
    # out of each other's way, as no two rings have the same place, not even for a moment
    for offset, ring in enumerate(ahead):
        Ring.objects.filter(pk=ring.pk).update(position=first + max(len(ahead), len(wanted)) + offset)
    rings = []
    for place, w in enumerate(wanted):
        ring = by_id[w.id] if w.id else Ring(rollout=rollout)
        ring.position = first + place
        for name, value in w.draft.__dict__.items():
            setattr(ring, name, value)
        ring.save()
        rings.append(ring)
    devices: dict[int, list[int]] = {}
    for device, place in found.places.items():
        devices.setdefault(rings[place].pk, []).append(device)
    whole = Delivery.objects.filter(rollout=rollout)
    for ring_id, ids in devices.items():
        deliveries.put_in_ring(whole.filter(device_id__any=ids), ring_id)
    gone = [r for r in ahead if r.pk not in {w.id for w in wanted}]
    # what had the version at the launch is in the last ring, which no gate follows; and what is left in a ring that
    # goes went before it opened
    last = rings[-1].pk
    deliveries.put_in_ring(_mine(rollout, ahead).filter(phase=Phase.CONFIRMED.value, offered_at=None), last)
    deliveries.put_in_ring(whole.filter(ring__in=[r.pk for r in gone]), last)
    Ring.objects.filter(pk__in=[r.pk for r in gone]).delete()
