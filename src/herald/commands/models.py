"""Scheduled commands and their firings."""

from datetime import date

from django.conf import settings
from django.db import models
from django.db.models import Q

from herald.commands.querysets import OccurrenceQuerySet, ScheduleQuerySet
from herald.fleet.models import Device
from herald.groups.models import Group
from herald_core.capabilities import Capability
from herald_core.timing.clocks import FIRST_YEAR, LAST_YEAR


class CommandTemplate(models.TextChoices):
    """What a command does. More come with later versions."""

    RESTART = "restart", "Restart"


#: days that can be computed with in every zone
PLANNABLE = (date(FIRST_YEAR, 1, 1), date(LAST_YEAR - 1, 12, 31))


class FreezeChoice(models.TextChoices):
    """What becomes of a device that is in a freeze as a command fires."""

    WAIT = "wait", "Waits for its end"
    DROP = "drop", "Is left out"


class Harm(models.TextChoices):
    """What a command does to the work of a device."""

    GENTLE = "gentle", "Gentle"
    DISRUPTIVE = "disruptive", "Disruptive"
    DESTRUCTIVE = "destructive", "Destructive"


#: freezes hold all but gentle ones, and one that runs now wants the number of devices typed
HARM = {CommandTemplate.RESTART: Harm.DISRUPTIVE}
#: how long a device is out of service by it
MINUTES = {CommandTemplate.RESTART: 5}
#: what a device must be able to do for a template
NEEDS = {CommandTemplate.RESTART: Capability.RESTART}


class When(models.TextChoices):
    """When a command runs."""

    NOW = "now", "Now, once"
    DAILY = "daily", "Every day at a device time"


class ScheduleState(models.TextChoices):
    """Whether a schedule fires."""

    ACTIVE = "active", "Active"
    PAUSED = "paused", "Paused"
    ENDED = "ended", "Ended"


class Schedule(models.Model):
    """A command for an audience, now or every day by the devices' clocks."""

    template = models.CharField(max_length=20, choices=CommandTemplate)
    include = models.ManyToManyField(Group, related_name="schedules_for")
    exclude = models.ManyToManyField(Group, related_name="schedules_not_for")
    #: devices that are named, besides those of the groups
    devices = models.ManyToManyField(Device, related_name="+")
    when = models.CharField(max_length=10, choices=When)
    time_of_day = models.TimeField(null=True)
    starts_on = models.DateField(null=True)
    until = models.DateField(null=True)
    spread_minutes = models.PositiveIntegerField(default=20)
    expires_after_minutes = models.PositiveIntegerField(default=120)
    max_concurrent = models.PositiveIntegerField(default=500)
    #: whether devices in a freeze wait for its end, as long as the firing allows, or are left out of the firing
    freezes = models.CharField(max_length=4, choices=FreezeChoice, default=FreezeChoice.WAIT)
    state = models.CharField(max_length=10, choices=ScheduleState, default=ScheduleState.ACTIVE)
    created_at = models.DateTimeField()
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    #: firings up to here have been looked at
    fired_through = models.DateTimeField()

    objects = ScheduleQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(template__in=CommandTemplate.values), name="schedule_template_known"),
            models.CheckConstraint(condition=Q(state__in=ScheduleState.values), name="schedule_state_known"),
            models.CheckConstraint(
                condition=Q(when="now", time_of_day__isnull=True) | Q(when="daily", time_of_day__isnull=False),
                name="schedule_time_where_daily",
            ),
            models.CheckConstraint(
                condition=Q(expires_after_minutes__gt=models.F("spread_minutes")) & Q(expires_after_minutes__lte=1380),
                name="schedule_gives_up_after_spread",
            ),
            models.CheckConstraint(condition=Q(max_concurrent__gte=1), name="schedule_cap_positive"),
            models.CheckConstraint(condition=Q(freezes__in=FreezeChoice.values), name="schedule_freezes_known"),
            models.CheckConstraint(
                condition=(Q(starts_on=None) | Q(starts_on__range=PLANNABLE))
                & (Q(until=None) | Q(until__range=PLANNABLE)),
                name="schedule_days_plannable",
            ),
        )


class Occurrence(models.Model):
    """One firing of a schedule in one zone. `audience` counts the devices it was for, `unable` those of its groups
    whose firmware could not do it."""

    schedule = models.ForeignKey(Schedule, on_delete=models.CASCADE, related_name="occurrences")
    zone = models.CharField(max_length=64)
    fires_at = models.DateTimeField()
    expires_at = models.DateTimeField()
    audience = models.PositiveIntegerField()
    unsupported_count = models.PositiveIntegerField(default=0)
    #: devices left out as they were in a freeze
    frozen = models.PositiveIntegerField(default=0)

    objects = OccurrenceQuerySet.as_manager()

    class Meta:
        constraints = (models.UniqueConstraint(fields=["schedule", "zone", "fires_at"], name="occurrence_once"),)
        indexes = (models.Index(fields=["schedule", "-fires_at"], name="occurrence_recent"),)
