"""The record: who did what to what, as one sentence. Only ever added to."""

from typing import Self

from django.conf import settings
from django.db import models


class RecordQuerySet(models.QuerySet["RecordEntry"]):
    def latest_first(self) -> Self:
        return self.select_related("actor").order_by("-id")

    def about(self, kind: str, object_id: int) -> Self:
        return self.filter(kind=kind, object_id=object_id)


class RecordEntry(models.Model):
    """One act. `actor` is empty where the clock acted by itself."""

    at = models.DateTimeField()
    actor = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    kind = models.CharField(max_length=20)
    object_id = models.BigIntegerField()
    sentence = models.TextField()
    before = models.JSONField(null=True)
    after = models.JSONField(null=True)

    objects = RecordQuerySet.as_manager()

    class Meta:
        indexes = (models.Index(fields=["kind", "object_id", "-id"], name="record_about"),)
