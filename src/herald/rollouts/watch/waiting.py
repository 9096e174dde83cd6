"""What is around the installs of rollouts that may keep them waiting."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from herald.attention.models import Part, Quarantine
from herald.calendar.services import freeze_spans
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import Described, describes_waits
from herald.rollouts.capacity import AHEAD, Capacity, SiteCapacity, capacities_of
from herald_core.deliveries import ACTIVE, Kind, Phase
from herald_core.waiting import Caps, FreezeSpan, Sending, WaitingDevice, WaitingOrder

if TYPE_CHECKING:
    from herald.rollouts.models import Rollout

_SENDING = {"paused": Sending.PAUSED, "halted": Sending.HALTED}


@describes_waits(Kind.INSTALL)
def describe_installs(deliveries: Sequence[Delivery], now: datetime) -> Described:
    """What is around open installs, of any rollouts, by their id."""
    rollouts = {d.rollout.pk for d in deliveries if d.rollout is not None}
    quarantined = Quarantine.objects.causes_of(Part.ROLLOUT, rollouts)
    around = _WaitingContext.of([d for d in deliveries if d.rollout and d.phase == Phase.WAITING], now)
    found: dict[int, tuple[WaitingOrder, WaitingDevice, Caps]] = {}
    for delivery in deliveries:
        if (rollout := delivery.rollout) is None:
            continue  # whoever asks does not see the rollout that sends it
        sending = Sending.QUARANTINED if rollout.pk in quarantined else _SENDING.get(rollout.state, Sending.RUNNING)
        found[delivery.pk] = (
            order_of(rollout, delivery, sending),
            around.device_of(rollout, delivery),
            around.caps_of(rollout),
        )
    return found


@dataclass(frozen=True)
class _WaitingContext:
    """What waiting installs depend on beside their own order: asked once for all of them."""

    #: open orders of their devices: rollout, its rank, whether it is the device's current step, phase
    orders: Mapping[int, Sequence[tuple[int | None, int | None, bool, str]]]
    freezes: Mapping[int, Sequence[FreezeSpan]]
    sites: SiteCapacity
    rooms: Mapping[int, Capacity]

    @classmethod
    def of(cls, waiting: Sequence[Delivery], now: datetime) -> "_WaitingContext":
        if not waiting:
            return cls(orders={}, freezes={}, sites=SiteCapacity(limits={}), rooms={})
        devices = [d.device_id for d in waiting]
        orders: dict[int, list[tuple[int | None, int | None, bool, str]]] = defaultdict(list)
        for device, *order in Delivery.objects.open_of_devices(devices):
            orders[device].append((order[0], order[1], order[2], order[3]))
        rollouts = {d.rollout for d in waiting if d.rollout is not None}
        held = Delivery.objects.in_hand_by_rollout([r.pk for r in rollouts])
        return cls(
            orders=orders,
            freezes=freeze_spans(devices, now, now + AHEAD),
            sites=SiteCapacity.now(),
            rooms=capacities_of({r: held.get(r.pk, 0) for r in rollouts}, now),
        )

    def device_of(self, rollout: "Rollout", delivery: Delivery) -> WaitingDevice:
        device, room = delivery.device, self.rooms.get(rollout.pk)
        others = [o for o in self.orders.get(device.pk, ()) if o[0] != rollout.pk]
        above = [(rank, pk) for pk, rank, current, _ in others if current and rank is not None and rank < rollout.rank]
        limited = device.site_id is not None and device.site_id in self.sites.limits
        return WaitingDevice(
            zone=device.time_zone,
            admitted=device.admission == "admitted",
            next_call=device.next_call,
            busy=any(Phase(phase) in ACTIVE for *_, phase in others),
            outranked_by=min(above)[1] if above else None,
            freezes=() if rollout.ignores_freezes else self.freezes.get(device.pk, ()),
            uplink_left=self.sites.left(device.site_id) if limited and delivery.image else None,
            site_left=room.at(device.site_id) if room and room.per_site else None,
        )

    def caps_of(self, rollout: "Rollout") -> Caps:
        room = self.rooms.get(rollout.pk)
        return Caps(
            left=room.devices if room else None,
            starts_left=room.starts if room and rollout.max_starts_per_hour is not None else None,
            limit=rollout.max_concurrent,
            starts_limit=rollout.max_starts_per_hour or 0,
        )


def order_of(rollout: "Rollout", delivery: Delivery, sending: Sending) -> WaitingOrder:
    """A delivery of a rollout as the core reads it."""
    device, image = delivery.device, delivery.image
    return WaitingOrder(
        kind=Kind.INSTALL,
        phase=Phase(delivery.phase),
        phase_since=delivery.phase_since,
        not_before=delivery.not_before,
        not_after=delivery.not_after,
        sending=sending,
        ring=delivery.ring.position if delivery.ring else 1,
        begins=rollout.begins_in(delivery.ring) if delivery.ring else None,
        needs=timedelta(minutes=image.expected_minutes if image else 0),
        soak=timedelta(minutes=image.soak_minutes if image else 0),
        fetch_only=delivery.fetch_only,
        has_file=delivery.file_stored_at is not None,
        after_failure=delivery.attempt > 1 and delivery.file_stored_at is None,
        hold_reason=delivery.hold_reason,
        expedited=delivery.expedited,
        spread_position=delivery.spread_position,
        put_off=delivery.deferred_at is not None and delivery.deferred_at >= delivery.phase_since,
        runs_already=bool(image and device.healthy and device.firmware_key == image.version_key),
        window=rollout.window,
        spread=timedelta(minutes=rollout.spread_minutes),
    )
