"""What is around the installs of rollouts that may keep them waiting."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from herald.attention.models import Part, Quarantine
from herald.calendar.services import freeze_spans
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import Described, describes_waits
from herald.rollouts.offering import AHEAD, SiteRoom, room_of
from herald_core.deliveries import Kind, Phase
from herald_core.waiting import Caps, FreezeSpan, Sending, WaitingDevice, WaitingOrder

if TYPE_CHECKING:
    from herald.rollouts.models import Rollout

_SENDING = {"paused": Sending.PAUSED, "halted": Sending.HALTED}


@describes_waits(Kind.INSTALL)
def describe_installs(deliveries: Sequence[Delivery], now: datetime) -> Described:
    """What is around open installs, of any rollouts, by their id."""
    by_rollout: dict[int, list[Delivery]] = defaultdict(list)
    for delivery in deliveries:
        by_rollout[delivery.rollout_id or 0].append(delivery)
    waiting = [d.device_id for d in deliveries if d.phase == Phase.WAITING]
    freezes = freeze_spans(waiting, now, now + AHEAD)
    found: dict[int, tuple[WaitingOrder, WaitingDevice, Caps]] = {}
    quarantined = Quarantine.objects.causes_of(Part.ROLLOUT, by_rollout)
    for rollout_id, rows in by_rollout.items():
        rollout = rows[0].rollout
        assert rollout is not None
        found |= _of_rollout(rollout, rows, freezes, quarantined=rollout_id in quarantined, now=now)
    return found


def _of_rollout(
    rollout: "Rollout",
    rows: Sequence[Delivery],
    freezes: Mapping[int, Sequence[FreezeSpan]],
    *,
    quarantined: bool,
    now: datetime,
) -> dict[int, tuple[WaitingOrder, WaitingDevice, Caps]]:
    sending = Sending.QUARANTINED if quarantined else _SENDING.get(rollout.state, Sending.RUNNING)
    waiting = [d for d in rows if d.phase == Phase.WAITING]
    others = Delivery.objects.open().filter(device_id__any=[d.device_id for d in waiting]).exclude(rollout=rollout)
    outranked = dict(
        others.filter(rollout__rank__lt=rollout.rank, current=True)
        .order_by("-rollout__rank")
        .values_list("device_id", "rollout_id")
    )
    busy = set(others.in_hand().values_list("device_id", flat=True))
    sites = SiteRoom.now() if waiting else SiteRoom(limits={})
    room = room_of(rollout, Delivery.objects.in_hand_of_rollout(rollout.pk), now) if waiting else None
    caps = Caps(
        left=room.devices if room else None,
        starts_left=room.starts if room and rollout.starts_per_hour is not None else None,
        limit=rollout.at_once,
        starts_limit=rollout.starts_per_hour or 0,
    )
    found = {}
    for delivery in rows:
        device = delivery.device
        image = delivery.image
        limited = device.site_id is not None and device.site_id in sites.limits
        found[delivery.pk] = (
            order_of(rollout, delivery, sending),
            WaitingDevice(
                zone=device.time_zone,
                admitted=device.admission == "admitted",
                next_call=device.next_call,
                busy=delivery.device_id in busy,
                outranked_by=outranked.get(delivery.device_id),
                freezes=() if rollout.ignores_freezes else freezes.get(delivery.device_id, ()),
                uplink_left=sites.left(device.site_id) if limited and image else None,
                site_left=room.at(device.site_id) if room and room.per_site else None,
            ),
            caps,
        )
    return found


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
        has_file=delivery.staged_at is not None,
        after_failure=delivery.attempt > 1 and delivery.staged_at is None,
        held=delivery.held,
        pushed=delivery.pushed,
        place=delivery.place,
        runs_already=bool(image and device.healthy and device.firmware_key == image.version_key),
        window=rollout.window,
        spread=timedelta(minutes=rollout.spread_minutes),
    )
