"""Every query about images."""

from collections.abc import Collection
from datetime import datetime
from typing import TYPE_CHECKING, Any, Self

from django.db import models

if TYPE_CHECKING:
    pass


class ImageQuerySet(models.QuerySet["Image"]):
    def listed(self) -> Self:
        """Newest versions first within each family; without those whose files were removed."""
        return (
            self.filter(cleaned_at=None)
            .select_related("added_by", "approved_by")
            .prefetch_related("device_models")
            .order_by("family", "-version_key")
        )

    def approved(self) -> Self:
        return self.filter(status="approved")

    def sendable_or(self, ids: Collection[int]) -> Self:
        """Approved ones, and those with these ids."""
        return self.filter(models.Q(status="approved") | models.Q(pk__in=list(ids))).order_by("id")

    def lengths_and_keys(self, ids: Collection[int]) -> "models.QuerySet[Any, Any]":
        """Id, minutes that an install takes, and version key, of these images."""
        return self.filter(pk__in=list(ids)).order_by().values_list("id", "expected_minutes", "version_key")

    def for_model(self, model_id: int) -> Self:
        """The images for a model, the oldest version first."""
        return self.filter(device_models=model_id).order_by("version_key")

    def with_file(self, sha256: str) -> Self:
        """The images whose file may be fetched under that hash."""
        return self.filter(sha256=sha256, cleaned_at=None).exclude(status="new")


class ImageCleanupQuerySet(models.QuerySet["ImageCleanup"]):
    def listed(self) -> Self:
        """The latest first."""
        return self.select_related("by").prefetch_related("images").order_by("-id")

    def to_purge(self, *, undo_until: datetime, marked_since: datetime) -> Self:
        """Those that can be undone no more and are not marked, or were marked of late."""
        unmarked = models.Q(purged_at=None) | models.Q(purged_at__gte=marked_since)
        return self.filter(unmarked, at__lte=undo_until, undone_at=None).order_by("id")
