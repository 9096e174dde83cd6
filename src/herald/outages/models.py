"""Times in which devices are expected to be silent, as somebody said beforehand."""

from django.conf import settings
from django.db import models
from django.db.models import F, Q

from herald.fleet.models import Site
from herald.groups.models import Group


class PlannedOutage(models.Model):
    """The devices of a site, or of a group, are expected to be silent from `starts_at` until `ends_at`, or until
    somebody said that it is over."""

    site = models.ForeignKey(Site, null=True, on_delete=models.CASCADE, related_name="planned_outages")
    group = models.ForeignKey(Group, null=True, on_delete=models.CASCADE, related_name="planned_outages")
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    reason = models.CharField(max_length=300)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    made_at = models.DateTimeField()

    class Meta:
        constraints = (
            models.CheckConstraint(
                condition=Q(site__isnull=False, group=None) | Q(site=None, group__isnull=False),
                name="outage_of_site_or_group",
            ),
            models.CheckConstraint(condition=Q(ends_at__gt=F("starts_at")), name="outage_ends_after_start"),
            models.CheckConstraint(condition=~Q(reason=""), name="outage_has_reason"),
        )
        indexes = (models.Index(fields=["ends_at"], name="outage_by_end"),)

    @property
    def where(self) -> str:
        """The name of its site or group."""
        about = self.site or self.group
        return about.name if about else ""
