"""How the fleet was, hour by hour and then day by day: which versions ran, and whether they were approved; and to whom
reports are sent."""

from datetime import datetime
from typing import Self

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import Q


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


class ReportMailQuerySet(models.QuerySet["ReportMail"]):
    def due(self, now: datetime, real_now: datetime) -> Self:
        """Those that are to be sent now, of people whose account is open, and that nobody is at; the oldest first."""
        return (
            self.filter(Q(retry_at=None) | Q(retry_at__lte=real_now), next_at__lte=now, owner__is_active=True)
            .filter(Q(claimed_until=None) | Q(claimed_until__lt=real_now))
            .select_related("owner")
            .order_by("next_at", "pk")
        )


class Report(models.TextChoices):
    """What can be sent by mail on a schedule; the words stand within a sentence."""

    FIRMWARE = "firmware", "firmware"
    SILENT = "silent", "silent devices"
    ATTENTION = "attention", "what needs attention"


class ReportMail(models.Model):
    """A report, sent to some addresses on some days of the week by a clock."""

    report = models.CharField(max_length=12, choices=Report, default=Report.FIRMWARE)
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="report_mails")
    to = ArrayField(models.EmailField())
    #: days of the week; 0 is Monday
    days = ArrayField(models.PositiveSmallIntegerField())
    at = models.TimeField()
    zone = models.CharField(max_length=64)
    created_at = models.DateTimeField()
    #: the installation's time: when it is to be sent, and when it last was
    next_at = models.DateTimeField()
    last_sent_at = models.DateTimeField(null=True)
    #: why the last try failed; empty where it did not
    last_words = models.CharField(max_length=300, blank=True)
    attempts = models.PositiveSmallIntegerField(default=0)
    #: real time: when it is tried again, and who is at it until when
    retry_at = models.DateTimeField(null=True)
    claimed_until = models.DateTimeField(null=True)

    objects = ReportMailQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(report__in=Report.values), name="report_mail_of_a_report"),
            models.CheckConstraint(condition=~Q(to=[]), name="report_mail_to_somebody"),
            models.CheckConstraint(
                condition=~Q(days=[]) & Q(days__contained_by=list(range(7))), name="report_mail_on_days_of_the_week"
            ),
        )
