"""How the fleet was, hour by hour and then day by day: which versions ran, and whether they were approved."""

from django.db import models


class FleetSample(models.Model):
    """How many admitted devices of a family ran a version at a moment, and how many of those called on time.

    `approved` says whether the version was that of an approved image for their model then: what is withdrawn later does
    not change what was. Devices that report no version have an empty one.
    """

    at = models.DateTimeField()
    family = models.CharField(max_length=60)
    version = models.CharField(max_length=64, blank=True)
    approved = models.BooleanField()
    devices = models.PositiveIntegerField()
    on_time = models.PositiveIntegerField()

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=["at", "family", "version", "approved"], name="sample_once"),
            models.CheckConstraint(condition=models.Q(on_time__lte=models.F("devices")), name="sample_on_time_of_all"),
        )
