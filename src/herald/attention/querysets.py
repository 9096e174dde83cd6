"""Every query about attention items and quarantine."""

from collections.abc import Collection
from datetime import datetime
from typing import Self

from django.db import models


class ItemQuerySet(models.QuerySet["Item"]):
    def open(self) -> Self:
        """Those not closed, the latest first."""
        return self.filter(closed_at=None).order_by("-opened_at", "-id")

    def awake(self, now: datetime) -> Self:
        """Those of the open ones that nobody has put off until later."""
        return self.open().exclude(snoozed_until__gt=now)

    def asleep(self, now: datetime) -> Self:
        """Those of the open ones that come back later."""
        return self.open().filter(snoozed_until__gt=now)

    def closed(self) -> Self:
        """Those that are over, the latest first."""
        return self.filter(closed_at__isnull=False).order_by("-closed_at", "-id")

    def listed(self) -> Self:
        return self.select_related("acknowledged_by", "assigned_to")

    def closed_since(self, moment: datetime, most: int) -> list[tuple[str, datetime, datetime]]:
        """Kind, opened and closed, of the latest that were closed since a moment."""
        rows = self.closed().filter(closed_at__gte=moment)
        return list(rows.values_list("kind", "opened_at", "closed_at")[:most])

    def about(self, kind: str, object_kind: str, object_id: int) -> Self:
        return self.filter(kind=kind, object_kind=object_kind, object_id=object_id)

    def of_kinds(self, kinds: Collection[str]) -> Self:
        return self.filter(kind__in=list(kinds))


class QuarantineQuerySet(models.QuerySet["Quarantine"]):
    def of_object(self, part: str, object_id: int) -> Self:
        return self.filter(part=part, object_id=object_id)

    def listed(self) -> Self:
        return self.order_by("-since", "-id")

    def causes_of(self, part: str, object_ids: Collection[int]) -> dict[int, str]:
        """The causes of those that are quarantined, by object id."""
        rows = self.filter(part=part, object_id__in=list(object_ids))
        return dict(rows.values_list("object_id", "cause"))
