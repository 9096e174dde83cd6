"""Every query about groups and membership."""

from collections.abc import Collection
from datetime import datetime
from typing import TYPE_CHECKING, Any, Self

from django.db import models
from django.db.models.functions import Coalesce

if TYPE_CHECKING:
    from herald.groups.models import Group, GroupMembership


class GroupQuerySet(models.QuerySet["Group"]):
    def with_counts(self) -> Self:
        """With `member_count`, in the order of names."""
        return (
            self.select_related("folder", "family", "only_model")
            .annotate(member_count=Coalesce("size__members", 0))
            .order_by("name")
        )

    def by_rule(self) -> Self:
        return self.filter(kind="rule")

    def by_name(self, name: str) -> Self:
        return self.filter(name=name)


class MembershipQuerySet(models.QuerySet["GroupMembership"]):
    def of_group(self, group_id: int) -> Self:
        return self.filter(group_id=group_id)

    def of_groups(self, group_ids: Collection[int]) -> Self:
        return self.filter(group_id__in=list(group_ids))

    def of_devices(self, device_ids: Collection[int]) -> Self:
        return self.filter(device_id__any=device_ids)

    def counts_by_group(self, first: Collection[int], second: Collection[int]) -> list[tuple["Group", int, int]]:
        """Groups, and how many of the first and of the second devices are in each."""
        counts: dict[int, list[int]] = {}
        for place, devices in enumerate((first, second)):
            rows = self.of_devices(list(devices)).order_by().values_list("group_id").annotate(n=models.Count("id"))
            for group, n in rows:
                counts.setdefault(group, [0, 0])[place] += n
        groups: Any = self.model.group.field.related_model._default_manager.in_bulk(list(counts))
        return [(groups[pk], a, b) for pk, (a, b) in counts.items()]

    def in_family(self, family_id: int) -> Self:
        return self.filter(group__family_id=family_id)

    def device_ids(self) -> "models.QuerySet[GroupMembership, int]":
        return self.values_list("device_id", flat=True)


class MembershipEventQuerySet(models.QuerySet["MembershipEvent"]):
    def of_group(self, group_id: int) -> Self:
        return self.filter(group_id=group_id)

    def newest_id(self) -> int:
        """The highest id that was given. Whoever holds the lock of memberships is the only one to write more."""
        return self.aggregate(newest=models.Max("id"))["newest"] or 0

    def differences_since(self, event_id: int) -> list[tuple["Group", int, int]]:
        """Groups, and how many devices joined and left each since that event; one that did both did neither."""
        net: dict[int, dict[int, int]] = {}
        rows = self.filter(id__gt=event_id).values_list("group_id", "device_id", "joined")
        for group, device, joined in rows:
            devices = net.setdefault(group, {})
            devices[device] = devices.get(device, 0) + (1 if joined else -1)
        groups = self.model.group.field.related_model.objects.in_bulk(list(net))
        return [
            (groups[pk], sum(n > 0 for n in devices.values()), sum(n < 0 for n in devices.values()))
            for pk, devices in net.items()
            if pk in groups
        ]

    def flapping(self, group_id: int, since: datetime, *, more_than: int) -> list[int]:
        """Devices that both joined and left the group more often than that since a moment."""
        rows = self.filter(group_id=group_id, at__gt=since).order_by().values_list("device_id")
        counted = rows.annotate(
            joins=models.Count("id", filter=models.Q(joined=True)),
            leaves=models.Count("id", filter=models.Q(joined=False)),
        )
        return sorted(counted.filter(joins__gt=more_than, leaves__gt=more_than - 1).values_list("device_id", flat=True))

    def latest_joins(self, group_ids: Collection[int], device_ids: Collection[int]) -> Self:
        """The joins of these devices to these groups, the latest first."""
        found = self.filter(group__in=list(group_ids), device_id__any=list(device_ids), joined=True)
        return found.select_related("group").order_by("-at", "-id")

    def after(self, moment: datetime) -> Self:
        return self.filter(at__gt=moment)
