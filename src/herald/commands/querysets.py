"""Every query about schedules and occurrences."""

from typing import TYPE_CHECKING, Self

from django.db import models

if TYPE_CHECKING:
    pass


class ScheduleQuerySet(models.QuerySet["Schedule"]):
    def listed(self) -> Self:
        """Newest first, with what the list shows."""
        return self.select_related("created_by").prefetch_related("include", "exclude").order_by("-id")

    def due(self) -> Self:
        """Those that may fire."""
        return self.filter(state="active").prefetch_related("include", "exclude").order_by("id")

    def using_group(self, group_id: int) -> Self:
        """Schedules, not ended, that name the group."""
        named = models.Q(include=group_id) | models.Q(exclude=group_id)
        return self.filter(named).exclude(state="ended").distinct().order_by("id")


class OccurrenceQuerySet(models.QuerySet["Occurrence"]):
    def recent(self, schedule_id: int) -> Self:
        return self.filter(schedule_id=schedule_id).order_by("-fires_at", "zone")
