"""Every query about freezes, and about the calendars that they are read from."""

from datetime import datetime
from typing import Self

from django.db import models
from django.db.models import F, Q

from herald.db.expressions import not_tried_for_its_time


class FreezeQuerySet(models.QuerySet["Freeze"]):
    def listed(self) -> Self:
        """With what a list shows; the next to come first, those that are over last, those that repeat before all."""
        rows = self.select_related("created_by", "source").prefetch_related("groups", "sites")
        return rows.order_by("-repeats_yearly", "-ends_at", "id")

    def maybe_between(self, start: datetime, end: datetime) -> Self:
        """Freezes of which a time may touch [start, end): those that repeat are to be looked at one by one."""
        rows = self.filter(Q(ends_at__gt=start) | Q(repeats_yearly=True), starts_at__lt=end)
        return rows.select_related("source").order_by("starts_at", "id")

    def naming_group(self, group_id: int, now: datetime) -> Self:
        """Freezes that are not over and name the group."""
        return self.filter(Q(ends_at__gt=now) | Q(repeats_yearly=True), groups=group_id).order_by("starts_at")


class CalendarSourceQuerySet(models.QuerySet["CalendarSource"]):
    def listed(self) -> Self:
        return self.select_related("created_by").prefetch_related("groups", "sites", "freezes").order_by("name")

    def due(self, now: datetime) -> Self:
        """Addresses that are to be read again, the longest unread first."""
        late = self.exclude(url="").filter(not_tried_for_its_time(now))
        return late.order_by(F("tried_at").asc(nulls_first=True), "id")

    def naming_group(self, group_id: int) -> Self:
        return self.filter(groups=group_id).order_by("name")
