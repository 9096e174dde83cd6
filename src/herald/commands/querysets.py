"""Every query about schedules and occurrences."""

from collections.abc import Collection
from typing import Self

from django.db import models

from herald.db.expressions import containing
from herald.groups.audience import with_named


class ScheduleQuerySet(models.QuerySet["Schedule"]):
    def listed(self) -> Self:
        """Newest first, with what the list shows."""
        return with_named(self.select_related("created_by").prefetch_related("include", "exclude").order_by("-id"))

    def with_words(self, words: str) -> Self:
        """Those in which each word is found: as the id, or in the command, a group or a person's name."""
        return containing(self, words, ("template", "created_by__name", "include__name"))

    def active(self) -> Self:
        """Those that fire: not paused, not ended."""
        return with_named(self.filter(state="active").prefetch_related("include", "exclude").order_by("id"))

    def using_group(self, group_id: int) -> Self:
        """Schedules, not ended, that name the group."""
        named = models.Q(include=group_id) | models.Q(exclude=group_id)
        return self.filter(named).exclude(state="ended").distinct().order_by("id")


class OccurrenceQuerySet(models.QuerySet["Occurrence"]):
    def schedules_of(self, ids: Collection[int]) -> dict[int, int]:
        """The schedules of some occurrences, by occurrence."""
        return dict(self.filter(pk__in=list(ids)).values_list("pk", "schedule_id"))

    def recent(self, schedule_ids: Collection[int], most: int) -> Self:
        """The latest of each of some schedules, at most so many of each; the latest first."""
        of_each = [self.filter(schedule_id=pk).order_by("-fires_at", "zone")[:most] for pk in schedule_ids]
        if len(of_each) < 2:  # which a union would not take
            return of_each[0] if of_each else self.none()
        return self.none().union(*of_each, all=True).order_by("-fires_at", "zone")
