"""Every query about images."""

from typing import TYPE_CHECKING, Self

from django.db import models

if TYPE_CHECKING:
    pass


class ImageQuerySet(models.QuerySet["Image"]):
    def listed(self) -> Self:
        """Newest versions first within each family."""
        return (
            self.select_related("added_by", "approved_by")
            .prefetch_related("device_models")
            .order_by("family", "-version_key")
        )

    def approved(self) -> Self:
        return self.filter(status="approved")

    def with_file(self, sha256: str) -> Self:
        """The images whose file may be fetched under that hash."""
        return self.filter(sha256=sha256).exclude(status="new")
