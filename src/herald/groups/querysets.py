"""Every query about groups and membership."""

from collections.abc import Collection
from datetime import datetime
from typing import TYPE_CHECKING, Self

from django.db import models
from django.db.models.functions import Coalesce

if TYPE_CHECKING:
    from herald.groups.models import GroupMembership


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

    def in_family(self, family_id: int) -> Self:
        return self.filter(group__family_id=family_id)

    def device_ids(self) -> "models.QuerySet[GroupMembership, int]":
        return self.values_list("device_id", flat=True)


class MembershipEventQuerySet(models.QuerySet["MembershipEvent"]):
    def of_group(self, group_id: int) -> Self:
        return self.filter(group_id=group_id)

    def after(self, moment: datetime) -> Self:
        return self.filter(at__gt=moment)
