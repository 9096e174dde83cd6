"""What happened since somebody was here last: in numbers, and the latest acts of others and of the system."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from herald.attention.models import Item
from herald.commands.models import Occurrence
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.people.models import User
from herald.record.models import RecordEntry
from herald.rollouts.models import Rollout
from herald_core.deliveries import Phase

#: who was away for longer is told of so long
AT_MOST = timedelta(days=14)
MOST_ACTS = 8


@dataclass(frozen=True, kw_only=True)
class Since:
    """Devices that confirmed an install and that failed for good; devices that did a command, failed or missed it, of
    firings that are over; devices that called for the first time; attention items. `acts` are the latest of
    `all_acts`."""

    since: datetime
    confirmed: int
    failed: int
    commands_done: int
    commands_failed: int
    commands_missed: int
    new_devices: int
    items_opened: int
    items_closed: int
    all_acts: int
    acts: Sequence[RecordEntry]


def since_last_visit(user: User, now: datetime) -> Since | None:
    """What happened since somebody's last visit; None for whoever is here for the first time."""
    if user.last_visit_ended_at is None:
        return None
    since = max(user.last_visit_ended_at, now - AT_MOST)
    open_then = Rollout.objects.open_since(since)
    installs = Delivery.objects.ended_since([r.pk for r in open_then], since)
    commands = Occurrence.objects.ends_since(since)
    acts = RecordEntry.objects.by_others_since(since, user.pk)
    return Since(
        since=since,
        confirmed=installs.get(Phase.CONFIRMED, 0),
        failed=installs.get(Phase.FAILED, 0),
        commands_done=commands.get(Phase.CONFIRMED, 0),
        commands_failed=commands.get(Phase.FAILED, 0),
        commands_missed=commands.get(Phase.EXPIRED, 0),
        new_devices=Device.objects.filter(first_seen__gte=since).count(),
        items_opened=Item.objects.filter(opened_at__gte=since).count(),
        items_closed=Item.objects.filter(closed_at__gte=since).count(),
        all_acts=acts.count(),
        acts=list(acts[:MOST_ACTS]),
    )
