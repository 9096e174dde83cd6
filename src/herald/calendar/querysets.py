"""Every query about freezes."""

from datetime import datetime
from typing import TYPE_CHECKING, Self

from django.db import models

if TYPE_CHECKING:
    pass


class FreezeQuerySet(models.QuerySet["Freeze"]):
    def listed(self) -> Self:
        """The next to come first, those that are over last."""
        return self.select_related("created_by").prefetch_related("groups", "sites").order_by("-ends_at")

    def between(self, start: datetime, end: datetime) -> Self:
        """Freezes that hold at some moment in [start, end), the first to begin first."""
        return self.filter(starts_at__lt=end, ends_at__gt=start).order_by("starts_at", "id")

    def naming_group(self, group_id: int, now: datetime) -> Self:
        """Freezes that are not over and name the group."""
        return self.filter(groups=group_id, ends_at__gt=now).order_by("starts_at")

    def naming_site(self, site_id: int) -> Self:
        return self.filter(sites=site_id).order_by("starts_at")
