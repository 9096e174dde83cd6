"""Rollouts: one image to an audience, in rings."""

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import F, Q

from herald.fleet.models import Device
from herald.groups.models import Group
from herald.images.models import Image
from herald.rollouts.querysets import RolloutQuerySet
from herald_core.preflight import Outcome
from herald_core.rings.assignment import RingKind
from herald_core.timing.windows import Window


class RolloutState(models.TextChoices):
    """Where a rollout stands."""

    DRAFT = "draft", "Draft"
    LAUNCHING = "launching", "Launching"
    RUNNING = "running", "Running"
    PAUSED = "paused", "Paused"
    HALTED = "halted", "Halted itself"
    STOPPED = "stopped", "Stopped"
    FINISHED = "finished", "Finished"


RingKindChoice = models.TextChoices("RingKindChoice", {k.name: (k.value, k.value) for k in RingKind})
OutcomeChoice = models.TextChoices("OutcomeChoice", {o.name: (o.value, o.value) for o in Outcome})


class Rollout(models.Model):
    """One rollout. The window is by the device's clock; without one, any hour will do."""

    image = models.ForeignKey(Image, on_delete=models.PROTECT)
    include = models.ManyToManyField(Group, related_name="rollouts_for")
    exclude = models.ManyToManyField(Group, related_name="rollouts_not_for")
    state = models.CharField(max_length=10, choices=RolloutState, default=RolloutState.DRAFT)
    window_start = models.TimeField(null=True)
    window_end = models.TimeField(null=True)
    window_days = ArrayField(models.PositiveSmallIntegerField(), default=list, blank=True)
    starts_at = models.DateTimeField(null=True)
    #: after this long since launch, devices that were not reached expire
    give_up_after_hours = models.PositiveIntegerField(default=14 * 24)
    failure_limit_pct = models.FloatField(default=2.0)
    failure_count_limit = models.PositiveIntegerField(null=True)
    #: failures that whoever resumed after a halt has taken upon them; they do not halt it again
    accepted_failures = models.PositiveIntegerField(default=0)
    at_once = models.PositiveIntegerField(default=200)
    max_attempts = models.PositiveSmallIntegerField(default=2)
    seed = models.BigIntegerField()
    created_at = models.DateTimeField()
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    launched_at = models.DateTimeField(null=True)
    launched_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    ended_at = models.DateTimeField(null=True)
    #: why it is paused, halted or stopped, or why a launch came to nothing
    reason = models.CharField(max_length=300, blank=True)

    objects = RolloutQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(state__in=RolloutState.values), name="rollout_state_known"),
            models.CheckConstraint(
                condition=Q(window_start__isnull=True, window_end__isnull=True)
                | Q(window_start__isnull=False, window_end__isnull=False) & ~Q(window_start=F("window_end")),
                name="rollout_window_whole",
            ),
            models.CheckConstraint(
                condition=Q(failure_limit_pct__gt=0) & Q(failure_limit_pct__lt=100), name="rollout_limit_is_share"
            ),
            models.CheckConstraint(
                condition=Q(at_once__gte=1) & Q(max_attempts__gte=1) & Q(give_up_after_hours__gte=1),
                name="rollout_caps_positive",
            ),
            models.CheckConstraint(
                condition=Q(state__in=["draft", "launching"]) | Q(launched_at__isnull=False),
                name="rollout_launched_has_time",
            ),
        )

    @property
    def window(self) -> Window | None:
        """The hours of the rollout, by the device's clock; None for any hour."""
        if self.window_start is None or self.window_end is None:
            return None
        days = frozenset(self.window_days) or frozenset(range(7))
        return Window(start=self.window_start, end=self.window_end, days=days)


class Ring(models.Model):
    """One stage of a rollout, and the gate after it."""

    rollout = models.ForeignKey(Rollout, on_delete=models.CASCADE, related_name="rings")
    position = models.PositiveSmallIntegerField()
    name = models.CharField(max_length=60)
    kind = models.CharField(max_length=10, choices=RingKindChoice.choices)
    group = models.ForeignKey(Group, null=True, on_delete=models.PROTECT, related_name="rings")
    share_pct = models.FloatField(null=True)
    number = models.PositiveIntegerField(null=True)
    confirmed_pct = models.FloatField(default=95.0)
    soak_minutes = models.PositiveIntegerField(default=60)
    opened_at = models.DateTimeField(null=True)
    share_reached_at = models.DateTimeField(null=True)
    gate_met_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ("position",)
        constraints = (
            models.UniqueConstraint(fields=["rollout", "position"], name="ring_position_once"),
            models.CheckConstraint(
                condition=Q(kind="group", group__isnull=False)
                | Q(kind="share", share_pct__gt=0, share_pct__lte=100)
                | Q(kind="number", number__gte=1)
                | Q(kind="rest"),
                name="ring_says_whom",
            ),
            models.CheckConstraint(
                condition=Q(confirmed_pct__gt=0) & Q(confirmed_pct__lte=100), name="ring_gate_is_share"
            ),
        )


class LeftOut(models.Model):
    """A device of the audience that does not take part, and why."""

    rollout = models.ForeignKey(Rollout, on_delete=models.CASCADE, db_index=False)
    device = models.ForeignKey(Device, on_delete=models.CASCADE)
    outcome = models.CharField(max_length=20, choices=OutcomeChoice.choices)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["rollout", "device"], name="left_out_once"),)
