"""Who was in a group, and when: read back from the events of joining and leaving."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db.models import OuterRef, Q, QuerySet, Subquery

from herald.fleet.models import Device
from herald.groups.models import Group, GroupMembership, MembershipEvent
from herald.groups.retention import KEY
from herald.http.errors import Conflict
from herald.retention.totals import deleted_before


@dataclass(frozen=True, kw_only=True)
class Point:
    """How many members a group had at a moment."""

    at: datetime
    count: int


@dataclass(frozen=True, kw_only=True)
class Comparison:
    """Two sets of devices beside each other, as queries."""

    only_first: "QuerySet[Device]"
    only_second: "QuerySet[Device]"
    both: "QuerySet[Device]"


def member_curve(group: Group, *, now: datetime, days: int = 30) -> list[Point]:
    """Members at the end of each of the last days, oldest first; the last point is now.

    Counted back from the members of now; days before the group was made have no point.
    """
    since = max(now - timedelta(days=days), group.created_at)
    events = list(
        MembershipEvent.objects.of_group(group.pk).after(since).order_by("-at", "-id").values_list("at", "joined")
    )
    count = GroupMembership.objects.of_group(group.pk).count()
    points, moment, index = [Point(at=now, count=count)], now, 0
    while moment > since:
        moment = max(moment - timedelta(days=1), since)
        while index < len(events) and events[index][0] > moment:
            count += -1 if events[index][1] else 1
            index += 1
        points.append(Point(at=moment, count=count))
    return points[::-1]


def members_at(group: Group, moment: datetime) -> "QuerySet[Device]":
    """The devices that were in the group at a moment.

    A device's first event after the moment tells what it was before; without one it is what it is now.

    Raises:
        Conflict: events of after the moment were deleted, as they are kept no longer.
    """
    gone = deleted_before(KEY)
    if gone is not None and moment < gone:
        raise Conflict(f"Who was in a group is known since {gone:%-d %B %Y}; what was before is kept no longer.")
    later = MembershipEvent.objects.of_group(group.pk).after(moment)
    first_later = later.filter(device=OuterRef("pk")).order_by("at", "id").values("joined")[:1]
    is_member = Q(pk__in=GroupMembership.objects.of_group(group.pk).values("device_id"))
    changed = Q(pk__in=later.values("device_id"))
    return Device.objects.alias(joined_later=Subquery(first_later)).filter(
        (is_member & ~changed) | Q(changed, joined_later=False)
    )


def latest_changes(group: Group, *, most: int) -> Sequence[MembershipEvent]:
    """The latest joins and leaves, newest first."""
    events = MembershipEvent.objects.of_group(group.pk).select_related("device")
    return list(events.order_by("-at", "-id")[:most])


def compare(first: "QuerySet[Device]", second: "QuerySet[Device]") -> Comparison:
    """What is only in the one, only in the other, and in both."""
    firsts, seconds = first.order_by().values("pk"), second.order_by().values("pk")
    return Comparison(
        only_first=Device.objects.filter(pk__in=firsts).exclude(pk__in=seconds),
        only_second=Device.objects.filter(pk__in=seconds).exclude(pk__in=firsts),
        both=Device.objects.filter(pk__in=firsts).filter(pk__in=seconds),
    )
