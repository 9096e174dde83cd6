"""Questions about imports that repeat."""

from datetime import datetime, timedelta
from typing import Self

from django.db import models
from django.db.models import DurationField, ExpressionWrapper, F, Q, Value


class RepeatedImportQuerySet(models.QuerySet["RepeatedImport"]):
    """Imports that repeat."""

    def listed(self) -> Self:
        """With what a row of them tells, by name."""
        return (
            self.select_related("mapping", "created_by", "last_import").defer("last_import__content").order_by("name")
        )

    def due(self, now: datetime) -> Self:
        """Those that were not tried for as long as they say, the longest ago first."""
        each = ExpressionWrapper(F("read_every_minutes") * Value(timedelta(minutes=1)), output_field=DurationField())
        late = Q(tried_at=None) | Q(tried_at__lte=now - each)
        return self.filter(late).order_by(F("tried_at").asc(nulls_first=True), "pk")

    def to_judge(self) -> Self:
        """Those whose last file was checked, or failed, and is not judged yet; and those that waited for somebody."""
        return self.listed().filter(Q(is_judged=False) | ~Q(waits_for=""))
