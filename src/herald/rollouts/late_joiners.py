"""Devices that joined the audience of a rollout after its launch, and how many of them go on without a person."""

import math
from dataclasses import dataclass
from datetime import datetime, timedelta

from herald.deliveries.models import Delivery
from herald.groups.models import MembershipEvent
from herald.rollouts.models import Rollout
from herald_core.deliveries import Phase

#: late joiners that are taken in within a day without asking: as many, or this share of the devices at launch
LATE_AT_LEAST, LATE_SHARE = 10, 0.05
LATE_WITHIN = timedelta(hours=24)
#: why late joiners beyond the limit are held back; they are released like any that are held
TOO_MANY_LATE = "joined after the launch, beyond the limit"


def late_limit(rollout: Rollout) -> int:
    """How many devices may join within a day before a person is asked."""
    if rollout.late_limit is not None:
        return rollout.late_limit
    at_launch = Delivery.objects.of_rollout(rollout.pk).filter(joined_late=False).count()
    return max(LATE_AT_LEAST, math.ceil(at_launch * LATE_SHARE))


def room_for_late(rollout: Rollout, now: datetime) -> int:
    """How many more may join now before a person is asked."""
    taken = Delivery.objects.first_steps(rollout.pk).filter(joined_late=True, created_at__gt=now - LATE_WITHIN)
    return max(0, late_limit(rollout) - taken.exclude(hold_reason=TOO_MANY_LATE).count())


def late_waiting(rollout: Rollout) -> int:
    """How many late joiners wait for a person."""
    return Delivery.objects.of_rollout(rollout.pk).waiting().filter(hold_reason=TOO_MANY_LATE).count()


@dataclass(frozen=True, kw_only=True)
class LateJoiner:
    """A device that joined the audience after the launch: by which group, since when and why, and whether it waits for
    a person."""

    device_id: int
    device: str
    joined_at: datetime
    group: str
    cause: str
    waits: bool


def late_joiners(rollout: Rollout, *, most: int) -> list[LateJoiner]:
    """Who joined since the launch, the latest first."""
    rows = Delivery.objects.of_rollout(rollout.pk).filter(joined_late=True).select_related("device").order_by("-id")
    found = list(rows[:most])
    groups = list(rollout.include.values_list("pk", flat=True))
    joins: dict[int, MembershipEvent] = {}
    for event in MembershipEvent.objects.latest_joins(groups, [d.device_id for d in found]):
        joins.setdefault(event.device_id, event)
    return [
        LateJoiner(
            device_id=d.device_id,
            device=d.device.name,
            joined_at=join.at if (join := joins.get(d.device_id)) else d.created_at,
            group=join.group.name if join else "",
            cause=join.cause if join else "",
            waits=d.hold_reason == TOO_MANY_LATE and d.phase == Phase.WAITING,
        )
        for d in found
    ]
