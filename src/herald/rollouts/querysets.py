"""Every query about rollouts and their rings."""

from typing import TYPE_CHECKING, Self

from django.db import models

if TYPE_CHECKING:
    pass


class RolloutQuerySet(models.QuerySet["Rollout"]):
    def listed(self) -> Self:
        """Newest first, with what the list shows."""
        return (
            self.select_related("image", "created_by", "launched_by")
            .prefetch_related("rings__group", "include", "exclude")
            .order_by("-id")
        )

    def moving(self) -> Self:
        """Those that the clock looks after: running, or held with devices still at it."""
        held = ["running", "paused", "halted", "stopped"]
        return self.filter(state__in=held, ended_at__isnull=True).order_by("id")

    def of_image(self, image_id: int) -> Self:
        """Rollouts of the image, not ended."""
        return self.filter(image_id=image_id, ended_at__isnull=True).order_by("id")

    def using_group(self, group_id: int) -> Self:
        """Rollouts, not ended, that name the group."""
        named = models.Q(include=group_id) | models.Q(exclude=group_id) | models.Q(rings__group=group_id)
        return self.filter(named, ended_at__isnull=True).distinct().order_by("id")
