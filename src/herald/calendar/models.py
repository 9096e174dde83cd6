"""What holds for days: freezes."""

from datetime import UTC, datetime

from django.conf import settings
from django.db import models
from django.db.models import F, Q

from herald.calendar.querysets import FreezeQuerySet
from herald.fleet.models import Site
from herald.groups.models import Group
from herald_core.timing.clocks import FIRST_YEAR, LAST_YEAR


class Freeze(models.Model):
    """A time in which nothing is installed on some devices: [starts_at, ends_at)."""

    name = models.CharField(max_length=80)
    why = models.CharField(max_length=300, blank=True)
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    #: holds for every device; otherwise for those of the groups and sites, and with none of them for nobody
    everywhere = models.BooleanField(default=False)
    groups = models.ManyToManyField(Group, related_name="freezes", blank=True)
    sites = models.ManyToManyField(Site, related_name="freezes", blank=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")

    objects = FreezeQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(ends_at__gt=F("starts_at")), name="freeze_ends_later"),
            models.CheckConstraint(
                condition=Q(starts_at__gte=datetime(FIRST_YEAR, 1, 1, tzinfo=UTC))
                & Q(ends_at__lte=datetime(LAST_YEAR, 1, 1, tzinfo=UTC)),
                name="freeze_plannable",
            ),
        )

    def __str__(self) -> str:
        return self.name
