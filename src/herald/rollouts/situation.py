"""What is around the deliveries of a rollout that may keep them waiting."""

from collections.abc import Sequence
from datetime import datetime, timedelta

from herald.calendar.services import devices_held, freezes_between
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import Situation
from herald.rollouts.models import Rollout
from herald.rollouts.offering import HOUR, SiteRoom


def situation_of(rollout: Rollout, device_ids: Sequence[int], now: datetime) -> Situation:
    """What may keep deliveries of these devices waiting."""
    others = Delivery.objects.open().filter(device_id__any=list(device_ids)).exclude(rollout=rollout)
    higher = others.filter(rollout__rank__lt=rollout.rank).values_list("device_id", "rollout_id")
    frozen = {}
    if not rollout.freeze_override:
        for freeze in freezes_between(now, now + timedelta(seconds=1)):
            frozen |= dict.fromkeys(devices_held([freeze]) & set(device_ids), (freeze.name, freeze.ends_at))
    return Situation(
        now=now,
        in_hand=Delivery.objects.in_hand_of_rollout(rollout.pk),
        started=Delivery.objects.offered_since(rollout.pk, now - HOUR) if rollout.starts_per_hour else 0,
        busy_devices=frozenset(others.in_hand().values_list("device_id", flat=True)),
        outranked=dict(higher),
        frozen=frozen,
        full_sites=frozenset(SiteRoom.now().full),
    )
