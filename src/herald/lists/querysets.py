"""Questions about lists that groups follow."""

from datetime import datetime
from typing import Self

from django.db import models
from django.db.models import F

from herald.db.expressions import not_tried_for_its_time


class FollowedListQuerySet(models.QuerySet["FollowedList"]):
    """Lists that groups follow."""

    def listed(self) -> Self:
        """With what a row of them tells, by the group's name."""
        return self.select_related("group", "created_by").order_by("group__name")

    def due(self, now: datetime) -> Self:
        """Those that were not tried for as long as they say, the longest ago first."""
        late = self.filter(not_tried_for_its_time(now))
        return late.order_by(F("tried_at").asc(nulls_first=True), "pk")
