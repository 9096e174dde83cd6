"""What holds for days: freezes, and the calendars elsewhere that some of them are read from."""

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from django.conf import settings
from django.db import models
from django.db.models import F, Q

from herald.calendar.querysets import CalendarSourceQuerySet, FreezeQuerySet
from herald.fleet.models import Site
from herald.groups.models import Group
from herald_core.timing.clocks import FIRST_YEAR, LAST_YEAR
from herald_core.timing.yearly import LONGEST_YEARLY

#: the clock of what names none
UTC_CLOCK = "UTC"


class CalendarSource(models.Model):
    """A calendar that freezes are read from (RFC 5545): a file that was brought once, or an address that is read again
    and again. Its freezes hold the same devices, and change as it does."""

    name = models.CharField(max_length=80, unique=True)
    #: empty for a file
    url = models.CharField(max_length=1000, blank=True)
    #: the clock by which its whole days, and times without a zone, are read
    time_zone = models.CharField(max_length=64, default=UTC_CLOCK)
    everywhere = models.BooleanField(default=False)
    groups = models.ManyToManyField(Group, related_name="calendar_sources", blank=True)
    sites = models.ManyToManyField(Site, related_name="calendar_sources", blank=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    read_every_minutes = models.PositiveIntegerField(default=60)
    #: when it was last tried; last read without an error; what was wrong the last time, empty where nothing was
    tried_at = models.DateTimeField(null=True)
    read_at = models.DateTimeField(null=True)
    last_error = models.CharField(max_length=300, blank=True)

    objects = CalendarSourceQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(
                condition=Q(read_every_minutes__range=(15, 10_080)), name="source_read_within_a_week"
            ),
        )

    def __str__(self) -> str:
        return self.name


class Freeze(models.Model):
    """A time in which nothing is installed on some devices: [starts_at, ends_at), and where it repeats, the same days
    and hours of each year after."""

    name = models.CharField(max_length=80)
    why = models.CharField(max_length=300, blank=True)
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    repeats_yearly = models.BooleanField(default=False)
    #: the clock by which it comes again
    time_zone = models.CharField(max_length=64, default=UTC_CLOCK)
    #: holds for every device; otherwise for those of the groups and sites, and with none of them for nobody
    everywhere = models.BooleanField(default=False)
    groups = models.ManyToManyField(Group, related_name="freezes", blank=True)
    sites = models.ManyToManyField(Site, related_name="freezes", blank=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    #: the calendar that it was read from, and what names it there
    source = models.ForeignKey(CalendarSource, null=True, on_delete=models.CASCADE, related_name="freezes")
    source_uid = models.CharField(max_length=300, blank=True)
    #: counts its changes, for calendars that follow it
    revision = models.PositiveIntegerField(default=1)

    objects = FreezeQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(ends_at__gt=F("starts_at")), name="freeze_ends_later"),
            models.CheckConstraint(
                condition=Q(repeats_yearly=False) | Q(ends_at__lte=F("starts_at") + LONGEST_YEARLY),
                name="freeze_yearly_ends",
            ),
            models.CheckConstraint(
                condition=Q(starts_at__gte=datetime(FIRST_YEAR, 1, 1, tzinfo=UTC))
                & Q(ends_at__lte=datetime(LAST_YEAR, 1, 1, tzinfo=UTC)),
                name="freeze_plannable",
            ),
            models.CheckConstraint(
                condition=Q(source=None, source_uid="") | Q(source__isnull=False, source_uid__gt=""),
                name="freeze_source_whole",
            ),
            models.UniqueConstraint(
                fields=["source", "source_uid"], condition=Q(source__isnull=False), name="freeze_once_in_source"
            ),
        )

    def __str__(self) -> str:
        return self.name


@dataclass(frozen=True)
class FreezeTime:
    """One time of a freeze: [starts_at, ends_at). A freeze that repeats has one a year."""

    freeze: Freeze
    starts_at: datetime
    ends_at: datetime

    @property
    def pk(self) -> int:
        return self.freeze.pk

    @property
    def name(self) -> str:
        return self.freeze.name

    @property
    def why(self) -> str:
        return self.freeze.why

    @property
    def everywhere(self) -> bool:
        return self.freeze.everywhere

    @property
    def lasts(self) -> timedelta:
        return self.ends_at - self.starts_at
