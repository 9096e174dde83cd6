"""Questions about lists that groups follow."""

from datetime import datetime, timedelta
from typing import Self

from django.db import models
from django.db.models import DurationField, ExpressionWrapper, F, Q, Value


class FollowedListQuerySet(models.QuerySet["FollowedList"]):
    """Lists that groups follow."""

    def listed(self) -> Self:
        """With what a row of them tells, by the group's name."""
        return self.select_related("group", "created_by").order_by("group__name")

    def due(self, now: datetime) -> Self:
        """Those that were not tried for as long as they say, the longest ago first."""
        each = ExpressionWrapper(F("read_every_minutes") * Value(timedelta(minutes=1)), output_field=DurationField())
        late = Q(tried_at=None) | Q(tried_at__lte=now - each)
        return self.filter(late).order_by(F("tried_at").asc(nulls_first=True), "pk")
