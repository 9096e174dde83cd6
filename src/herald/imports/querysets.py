"""Questions about imports that repeat."""

from datetime import datetime
from typing import Self

from django.db import models
from django.db.models import F, Q

from herald.db.expressions import not_tried_for_its_time


class RepeatedImportQuerySet(models.QuerySet["RepeatedImport"]):
    """Imports that repeat."""

    def listed(self) -> Self:
        """With what a row of them tells, by name."""
        return (
            self.select_related("mapping", "created_by", "last_import").defer("last_import__content").order_by("name")
        )

    def due(self, now: datetime) -> Self:
        """Those that were not tried for as long as they say, the longest ago first."""
        late = self.filter(not_tried_for_its_time(now))
        return late.order_by(F("tried_at").asc(nulls_first=True), "pk")

    def to_judge(self) -> Self:
        """Those whose last file was checked, or failed, and is not judged yet; and those that waited for somebody."""
        return self.listed().filter(Q(is_judged=False) | ~Q(waits_for=""))
