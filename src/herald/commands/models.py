"""Command templates, scheduled commands and their firings."""

from collections.abc import Sequence
from datetime import date, datetime, time
from typing import Any

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import F, Q

from herald.commands.querysets import OccurrenceQuerySet, OutputQuerySet, ScheduleQuerySet, TemplateQuerySet
from herald.fleet.models import Device, DeviceModel
from herald.groups.models import Group
from herald_core.actions import Action, Harm
from herald_core.timing.clocks import FIRST_YEAR, LAST_YEAR
from herald_core.timing.recurrence import MAX_TEXT, Recurrence
from herald_core.timing.windows import DEVICE_CLOCK

ACTIONS = [(a.value, a.value) for a in Action]
HARMS = [(h.value, h.value.capitalize()) for h in Harm]
#: days that can be computed with in every zone
PLANNABLE = (date(FIRST_YEAR, 1, 1), date(LAST_YEAR - 1, 12, 31))
#: the form in which a local time is kept
LOCAL_FORM = "%Y-%m-%dT%H:%M"


def recurrence_of(
    starts_on: date | None, time_of_day: time | None, rule: str, excluded: Sequence[str]
) -> Recurrence | None:
    """When something fires, by its clock, from what is kept of it; None where it has no time."""
    if starts_on is None or time_of_day is None:
        return None
    left_out = frozenset(datetime.strptime(t, LOCAL_FORM) for t in excluded)  # noqa: DTZ007  local times
    return Recurrence(start=datetime.combine(starts_on, time_of_day), rule=rule, excluded=left_out)


class CommandTemplate(models.Model):
    """What a command does, with the JSON Schema of its parameters: built in, or somebody's own of an action that
    devices offer. Known by its key."""

    key = models.SlugField(max_length=40, unique=True)
    name = models.CharField(max_length=60, unique=True)
    note = models.CharField(max_length=300, blank=True)
    action = models.CharField(max_length=20, choices=ACTIONS)
    #: the manufacturer's word for it, where it is one of theirs
    action_name = models.CharField(max_length=60, blank=True)
    schema = models.JSONField(default=dict)
    harm = models.CharField(max_length=12, choices=HARMS)
    #: how long a device is at it
    minutes = models.PositiveIntegerField()
    is_built_in = models.BooleanField(default=False)
    #: since when it is offered no more; what was made from it stays
    retired_at = models.DateTimeField(null=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")

    objects = TemplateQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(action__in=[a.value for a in Action]), name="template_action_known"),
            models.CheckConstraint(condition=Q(harm__in=[h.value for h in Harm]), name="template_harm_known"),
            models.CheckConstraint(
                condition=Q(action=Action.NAMED.value, action_name__gt="")
                | ~Q(action=Action.NAMED.value) & Q(action_name=""),
                name="template_named_where_named",
            ),
            models.CheckConstraint(condition=Q(minutes__range=(1, 1440)), name="template_minutes_within_a_day"),
        )

    def __str__(self) -> str:
        return self.name


class TemplateModel(models.Model):
    """A model that offers a named action, from one version of its firmware to another, both included; open where
    empty."""

    template = models.ForeignKey(CommandTemplate, on_delete=models.CASCADE, related_name="offered_by")
    model = models.ForeignKey(DeviceModel, on_delete=models.CASCADE, related_name="+")
    from_version = models.CharField(max_length=64, blank=True)
    from_key = models.TextField(null=True, db_collation="C")
    to_version = models.CharField(max_length=64, blank=True)
    to_key = models.TextField(null=True, db_collation="C")

    class Meta:
        constraints = (models.UniqueConstraint(fields=["template", "model"], name="template_model_once"),)


class FreezeChoice(models.TextChoices):
    """What becomes of a device that is in a freeze as a command fires."""

    WAIT = "wait", "Waits for its end"
    DROP = "drop", "Is left out"


class LateChoice(models.TextChoices):
    """What becomes of a device that was not reached before the command gave up."""

    DROP = "drop", "Misses this firing"
    RUN = "run", "Runs it when it is back"


class OverlapChoice(models.TextChoices):
    """What becomes of a device that is still at the firing before."""

    WAIT = "wait", "Runs this one after it"
    SKIP = "skip", "Is left out of this one"


class When(models.TextChoices):
    """When a command runs."""

    NOW = "now", "Now"
    ONCE = "once", "Once, at a time"
    REPEAT = "repeat", "Again and again, by a rule"


class ScheduleState(models.TextChoices):
    """Whether a schedule fires."""

    PROPOSED = "proposed", "Waits for approval"
    ACTIVE = "active", "Active"
    PAUSED = "paused", "Paused"
    ENDED = "ended", "Ended"


class Schedule(models.Model):
    """A command for an audience: now, once at a time, or again and again, by the devices' clocks or a named one."""

    name = models.CharField(max_length=80, blank=True)
    reason = models.CharField(max_length=300, blank=True)
    ticket = models.CharField(max_length=200, blank=True)
    template = models.ForeignKey(
        CommandTemplate, to_field="key", db_column="template", on_delete=models.PROTECT, related_name="schedules"
    )
    parameters = models.JSONField(default=dict)
    include = models.ManyToManyField(Group, related_name="schedules_for")
    exclude = models.ManyToManyField(Group, related_name="schedules_not_for")
    #: devices that are named, besides those of the groups
    devices = models.ManyToManyField(Device, related_name="+")
    when = models.CharField(max_length=10, choices=When)
    #: "device", or the zone of one clock for all
    clock = models.CharField(max_length=64, default=DEVICE_CLOCK)
    #: local times by that clock
    starts_on = models.DateField(null=True)
    time_of_day = models.TimeField(null=True)
    #: the text of an RRULE
    rule = models.CharField(max_length=MAX_TEXT, blank=True)
    #: local times that are left out, as `LOCAL_FORM` has them
    excluded = ArrayField(models.CharField(max_length=16), default=list, blank=True)
    spread_minutes = models.PositiveIntegerField(default=20)
    expires_after_minutes = models.PositiveIntegerField(default=120)
    max_concurrent = models.PositiveIntegerField(default=500)
    at_once_per_site = models.PositiveIntegerField(null=True)
    #: whether devices in a freeze wait for its end, as long as the firing allows, or are left out of the firing
    freezes = models.CharField(max_length=4, choices=FreezeChoice, default=FreezeChoice.WAIT)
    late = models.CharField(max_length=4, choices=LateChoice, default=LateChoice.DROP)
    overlap = models.CharField(max_length=4, choices=OverlapChoice, default=OverlapChoice.WAIT)
    state = models.CharField(max_length=10, choices=ScheduleState, default=ScheduleState.ACTIVE)
    created_at = models.DateTimeField()
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    approved_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    #: counts its changes: whoever changes it says which one was read
    revision = models.PositiveIntegerField(default=1)
    #: firings up to here have been looked at
    fired_through = models.DateTimeField()
    #: nothing of it fires before in the zones of which this is the digest; None: not known
    quiet_until = models.DateTimeField(null=True)
    quiet_zones = models.BigIntegerField(null=True)

    objects = ScheduleQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(state__in=ScheduleState.values), name="schedule_state_known"),
            models.CheckConstraint(
                condition=Q(when="now", time_of_day__isnull=True, starts_on__isnull=True, rule="")
                | Q(when="once", time_of_day__isnull=False, starts_on__isnull=False, rule="")
                | Q(when="repeat", time_of_day__isnull=False, starts_on__isnull=False, rule__gt=""),
                name="schedule_time_fits",
            ),
            models.CheckConstraint(
                condition=Q(expires_after_minutes__gt=F("spread_minutes")) & Q(expires_after_minutes__lte=10_080),
                name="schedule_gives_up_after_spread",
            ),
            models.CheckConstraint(
                condition=Q(max_concurrent__gte=1) & (Q(at_once_per_site=None) | Q(at_once_per_site__gte=1)),
                name="schedule_cap_positive",
            ),
            models.CheckConstraint(
                condition=Q(freezes__in=FreezeChoice.values)
                & Q(late__in=LateChoice.values)
                & Q(overlap__in=OverlapChoice.values),
                name="schedule_choices_known",
            ),
            models.CheckConstraint(
                condition=Q(starts_on=None) | Q(starts_on__range=PLANNABLE), name="schedule_days_plannable"
            ),
        )

    @property
    def title(self) -> str:
        """What people call it, or else its command."""
        return self.name or self.template.name

    @property
    def recurrence(self) -> Recurrence | None:
        """When it fires, by its clock; None where it runs now."""
        return recurrence_of(self.starts_on, self.time_of_day, self.rule, self.excluded)


class Detail(models.TextChoices):
    """How much is kept of a firing."""

    WHOLE = "whole", "What became of each device"
    #: it is being deleted, and already not shown
    GOING = "going", "How many devices ended how"
    TOTALS = "totals", "How many devices ended how, and nothing else"


class Occurrence(models.Model):
    """One firing of a schedule in one zone, with what was ordered then: a change of the schedule changes nothing here.
    `audience` counts the devices it was for, the other counts those that were left out."""

    schedule = models.ForeignKey(Schedule, on_delete=models.CASCADE, related_name="occurrences")
    template = models.ForeignKey(
        CommandTemplate, to_field="key", db_column="template", on_delete=models.PROTECT, related_name="+"
    )
    parameters = models.JSONField(default=dict)
    zone = models.CharField(max_length=64)
    #: the time of the rule that it stands for, as `LOCAL_FORM` has it; empty for one that ran besides its times
    local_time = models.CharField(max_length=16, blank=True)
    fires_at = models.DateTimeField()
    expires_at = models.DateTimeField()
    audience = models.PositiveIntegerField()
    unsupported_count = models.PositiveIntegerField(default=0)
    #: devices left out as they were in a freeze
    frozen = models.PositiveIntegerField(default=0)
    #: devices left out as they were still at the firing before
    overlapping = models.PositiveIntegerField(default=0)
    #: of one that is over, how many devices ended in each phase: rows of site, time zone, phase and number
    tally = models.JSONField(null=True)
    #: the same by the groups that they were in: rows of group, time zone, phase and number
    group_tally = models.JSONField(null=True)
    tallied_at = models.DateTimeField(null=True)
    detail = models.CharField(max_length=10, choices=Detail, default=Detail.WHOLE)

    objects = OccurrenceQuerySet.as_manager()

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=["schedule", "zone", "fires_at"], name="occurrence_once"),
            models.CheckConstraint(
                condition=Q(tally__isnull=True, tallied_at=None) | Q(tally__isnull=False, tallied_at__isnull=False),
                name="occurrence_tally_has_time",
            ),
            models.CheckConstraint(condition=Q(detail__in=Detail.values), name="occurrence_detail_known"),
            models.CheckConstraint(
                condition=Q(detail="whole") | Q(tallied_at__isnull=False), name="occurrence_keeps_its_tally"
            ),
        )
        indexes = (
            models.Index(fields=["schedule", "-fires_at"], name="occurrence_recent"),
            models.Index(fields=["schedule", "local_time"], name="occurrence_local_time"),
            models.Index(fields=["fires_at"], name="occurrence_by_time"),
            models.Index(fields=["expires_at"], condition=Q(tallied_at=None), name="occurrence_untallied"),
            models.Index(fields=["expires_at"], condition=~Q(detail="totals"), name="occurrence_to_shorten"),
            models.Index(fields=["tallied_at"], condition=Q(tallied_at__isnull=False), name="occurrence_tallied"),
        )

    @property
    def order(self) -> dict[str, Any]:
        """What devices are told to do."""
        return {
            "action": self.template.action,
            "action_name": self.template.action_name,
            "parameters": self.parameters,
        }


class Output(models.Model):
    """What a command gave on one device, sent in pieces: a text, or a log. The bytes are in a file of their own; `size`
    of them have come, and what came beyond the most that is kept was cut."""

    delivery = models.OneToOneField("deliveries.Delivery", on_delete=models.CASCADE, related_name="output")
    device = models.ForeignKey(Device, on_delete=models.CASCADE, related_name="outputs")
    is_log = models.BooleanField(default=False)
    size = models.PositiveIntegerField(default=0)
    is_cut = models.BooleanField(default=False)
    last_at = models.DateTimeField()

    objects = OutputQuerySet.as_manager()

    class Meta:
        indexes = (
            models.Index(fields=["device", "-last_at"], name="output_of_device"),
            models.Index(fields=["last_at"], name="output_by_age"),
        )
