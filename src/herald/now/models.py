"""What is kept of acts on everything at once."""

from typing import Self

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import Q


class PauseOfEverythingQuerySet(models.QuerySet["PauseOfEverything"]):
    def standing(self) -> Self:
        """The one that has not been taken back."""
        return self.filter(is_standing=True)


class PauseOfEverything(models.Model):
    """Everything that ran was paused, by somebody and for a reason, until that is taken back as one act. It names what
    it paused: what was paused before stays paused afterwards."""

    began_at = models.DateTimeField()
    #: when it was pressed last: what ran again, or was launched meanwhile, may be paused with the rest
    pressed_at = models.DateTimeField()
    reason = models.CharField(max_length=300)
    paused_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    rollout_ids = ArrayField(models.BigIntegerField(), default=list)
    schedule_ids = ArrayField(models.BigIntegerField(), default=list)
    ended_at = models.DateTimeField(null=True)
    ended_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    #: True, or null once it has ended, so that there is never more than one that stands
    is_standing = models.BooleanField(null=True, default=True, unique=True)

    objects = PauseOfEverythingQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(
                condition=Q(is_standing=True, ended_at=None) | Q(is_standing=None, ended_at__isnull=False),
                name="pause_stands_or_ended",
            ),
        )
