"""Rollouts: new firmware to an audience, in rings."""

from datetime import UTC, datetime, timedelta
from enum import StrEnum

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import F, Q

from herald.fleet.models import Device, DeviceModel
from herald.groups.models import Group
from herald.images.models import Image
from herald.rollouts.querysets import RolloutQuerySet, StoredForecastQuerySet
from herald.rollouts.querysets import Transfers as Transfers
from herald_core.changes import Change, Choice
from herald_core.deliveries import Deferral
from herald_core.preflight import Outcome
from herald_core.rings.assignment import RingKind
from herald_core.timing.clocks import FIRST_YEAR, LAST_YEAR
from herald_core.timing.spread import spread_position_of
from herald_core.timing.windows import Window


class Stage(StrEnum):
    """Where in its life a rollout is, as lists are filtered by."""

    DRAFT = "draft"
    OPEN = "open"
    ENDED = "ended"


class RolloutState(models.TextChoices):
    """Where a rollout stands."""

    DRAFT = "draft", "Draft"
    LAUNCHING = "launching", "Launching"
    RUNNING = "running", "Running"
    PAUSED = "paused", "Paused"
    HALTED = "halted", "Halted itself"
    STOPPED = "stopped", "Stopped"
    FINISHED = "finished", "Finished"


#: launched, and a person may still step in
OPEN_STATES = (RolloutState.RUNNING, RolloutState.PAUSED, RolloutState.HALTED)

RingKindChoice = models.TextChoices("RingKindChoice", {k.name: (k.value, k.value) for k in RingKind})  # type: ignore[call-overload]
OutcomeChoice = models.TextChoices("OutcomeChoice", {o.name: (o.value, o.value) for o in Outcome})  # type: ignore[call-overload]
TargetChoice = models.TextChoices("TargetChoice", {c.name: (c.value, c.value) for c in Choice})  # type: ignore[call-overload]


class Rollout(models.Model):
    """One rollout. The window is by the device's clock; without one, any hour will do."""

    #: devices changed by that rollout get the version back that they had before; then there are no change rows
    rolls_back = models.ForeignKey("self", null=True, on_delete=models.PROTECT, related_name="rolled_back_by")
    downgrades = models.BooleanField(default=False)
    include = models.ManyToManyField(Group, related_name="rollouts_for")
    exclude = models.ManyToManyField(Group, related_name="rollouts_not_for")
    #: devices that are named, besides those of the groups
    devices = models.ManyToManyField(Device, related_name="+")
    #: of the groups' devices those that this rule matches as they come in; empty for all
    rule_filter = models.TextField(blank=True)
    state = models.CharField(max_length=10, choices=RolloutState, default=RolloutState.DRAFT)
    window_start = models.TimeField(null=True)
    window_end = models.TimeField(null=True)
    window_days = ArrayField(models.PositiveSmallIntegerField(), default=list, blank=True)
    starts_at = models.DateTimeField(null=True)
    #: files are fetched ahead of the window: at any hour, or in hours of their own
    prefetch = models.BooleanField(default=False)
    prefetch_start = models.TimeField(null=True)
    prefetch_end = models.TimeField(null=True)
    #: after this long since launch, devices that were not reached expire
    expires_after_hours = models.PositiveIntegerField(default=14 * 24)
    #: or at this moment, where there is one
    ends_at = models.DateTimeField(null=True)
    failure_limit_pct = models.FloatField(default=2.0)
    failure_count_limit = models.PositiveIntegerField(null=True)
    #: failures that whoever resumed after a halt has taken upon them; they do not halt it again
    accepted_failures = models.PositiveIntegerField(default=0)
    max_concurrent = models.PositiveIntegerField(default=200)
    max_concurrent_per_site = models.PositiveIntegerField(null=True)
    max_starts_per_hour = models.PositiveIntegerField(null=True)
    #: devices begin one after another over so many minutes of each window, or from when their ring opens
    spread_minutes = models.PositiveIntegerField(default=0)
    #: devices that join the audience later take part, those that leave are withdrawn
    follows_audience = models.BooleanField(default=False)
    #: more late joiners than so many in a day wait for a person; none for the usual number
    late_limit = models.PositiveIntegerField(null=True)
    audience_checked_at = models.DateTimeField(null=True)
    #: when it was last looked which waiting devices run the version by now
    looked_at = models.DateTimeField(null=True)
    #: among open rollouts the lower number holds a device that is in two
    rank = models.IntegerField(default=0)
    #: why installs go on in a freeze; empty where freezes hold them
    freeze_override_reason = models.CharField(max_length=300, blank=True)
    overridden_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    #: who agreed to the override; until then freezes hold
    override_approved_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )
    #: the kept rings that these were taken from
    plan_version = models.ForeignKey("RingPlanVersion", null=True, on_delete=models.SET_NULL, related_name="rollouts")
    #: what people call it, why it is there, and where that is written down
    name = models.CharField(max_length=80, blank=True)
    purpose = models.CharField(max_length=300, blank=True)
    ticket = models.CharField(max_length=200, blank=True)
    #: shown on the device before the install
    notice = models.CharField(max_length=300, blank=True)
    #: whoever reads it may put the install off so many times, until a moment; both null for not at all
    defer_times = models.PositiveSmallIntegerField(null=True)
    defer_until = models.DateTimeField(null=True)
    max_attempts = models.PositiveSmallIntegerField(default=2)
    seed = models.BigIntegerField()
    created_at = models.DateTimeField()
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    launched_at = models.DateTimeField(null=True)
    launched_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    ended_at = models.DateTimeField(null=True)
    #: when it last halted itself
    halted_at = models.DateTimeField(null=True)
    #: why it is paused, halted or stopped, or why a launch failed
    reason = models.CharField(max_length=300, blank=True)
    #: why it was launched although an image of it had failed before
    launched_despite = models.CharField(max_length=300, blank=True)

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
                condition=Q(prefetch_start__isnull=True, prefetch_end__isnull=True)
                | Q(prefetch_start__isnull=False, prefetch_end__isnull=False, prefetch=True)
                & ~Q(prefetch_start=F("prefetch_end")),
                name="rollout_staging_whole",
            ),
            models.CheckConstraint(
                condition=Q(failure_limit_pct__gt=0) & Q(failure_limit_pct__lt=100), name="rollout_limit_is_share"
            ),
            models.CheckConstraint(
                condition=Q(max_concurrent__gte=1) & Q(max_attempts__gte=1) & Q(expires_after_hours__gte=1),
                name="rollout_caps_positive",
            ),
            models.CheckConstraint(
                condition=(Q(max_concurrent_per_site=None) | Q(max_concurrent_per_site__gte=1))
                & (Q(max_starts_per_hour=None) | Q(max_starts_per_hour__gte=1)),
                name="rollout_more_caps_positive",
            ),
            models.CheckConstraint(
                condition=Q(freeze_override_reason="") | Q(overridden_by__isnull=False),
                name="rollout_override_has_person",
            ),
            models.CheckConstraint(
                condition=Q(override_approved_by=None) | ~Q(freeze_override_reason=""),
                name="rollout_approval_of_override",
            ),
            models.CheckConstraint(
                condition=Q(override_approved_by=None) | ~Q(override_approved_by=F("overridden_by")),
                name="rollout_override_by_two",
            ),
            models.CheckConstraint(
                condition=Q(state__in=["draft", "launching"]) | Q(launched_at__isnull=False),
                name="rollout_launched_has_time",
            ),
            models.UniqueConstraint(
                fields=["rank"],
                condition=Q(launched_at__isnull=False, ended_at__isnull=True),
                name="rollout_rank_once",
            ),
            models.CheckConstraint(
                condition=Q(starts_at=None)
                | Q(starts_at__gte=datetime(FIRST_YEAR, 1, 1, tzinfo=UTC))
                & Q(starts_at__lt=datetime(LAST_YEAR, 1, 1, tzinfo=UTC)),
                name="rollout_start_plannable",
            ),
            models.CheckConstraint(
                condition=Q(ends_at=None)
                | Q(ends_at__gte=datetime(FIRST_YEAR, 1, 1, tzinfo=UTC))
                & Q(ends_at__lt=datetime(LAST_YEAR, 1, 1, tzinfo=UTC))
                & (Q(starts_at=None) | Q(ends_at__gt=F("starts_at"))),
                name="rollout_end_after_start",
            ),
            models.CheckConstraint(
                condition=Q(defer_times=None, defer_until=None) | ~Q(notice=""), name="rollout_deferral_has_notice"
            ),
        )

    @property
    def ignores_freezes(self) -> bool:
        """Whether installs go on in freezes: somebody said why, and somebody else agreed."""
        return bool(self.freeze_override_reason) and self.override_approved_by_id is not None

    @property
    def window(self) -> Window | None:
        """The hours of the rollout, by the device's clock; None for any hour."""
        if self.window_start is None or self.window_end is None:
            return None
        days = frozenset(self.window_days) or frozenset(range(7))
        return Window(start=self.window_start, end=self.window_end, days=days)

    @property
    def current_forecast(self) -> "StoredForecast | None":
        """The forecast that is kept of it, while it runs: nobody knows when one that is held goes on."""
        return getattr(self, "forecast", None) if self.state == RolloutState.RUNNING else None

    def spread_position_of(self, device_id: int) -> float:
        """The device's place in the spread of starts, from 0 up to 1: always the same."""
        return spread_position_of(f"{self.seed}/{device_id}")

    @property
    def begins_at(self) -> datetime:
        """From when on its devices may begin; of a draft without a moment, from its making."""
        return self.starts_at or self.launched_at or self.created_at

    @property
    def expires_at(self) -> datetime:
        """What has not begun by then expires."""
        return self.end_for(self.begins_at)

    def end_for(self, begins: datetime) -> datetime:
        """When what may begin at a moment expires."""
        return self.ends_at or self.whole_time_from(begins)

    def whole_time_from(self, begins: datetime) -> datetime:
        """When what may begin at a moment would expire if the rollout had no end."""
        return begins + timedelta(hours=self.expires_after_hours)

    @property
    def deferral(self) -> Deferral:
        """How far whoever stands before a device may put its install off."""
        return Deferral(times=self.defer_times, until=self.defer_until)

    def begins_in(self, ring: "Ring") -> datetime | None:
        """When devices of a ring may begin at the earliest, whatever their hours; None while it is not open."""
        return ring.opened_at and max(ring.opened_at, self.starts_at or ring.opened_at)

    @property
    def staging_hours(self) -> Window | None:
        """When files may be fetched ahead, by the device's clock; None for any hour."""
        if self.prefetch_start is None or self.prefetch_end is None:
            return None
        return Window(start=self.prefetch_start, end=self.prefetch_end)


class ChangeRow(models.Model):
    """A row of a rollout's change table: which devices, and their target."""

    rollout = models.ForeignKey(Rollout, on_delete=models.CASCADE, related_name="changes")
    position = models.PositiveSmallIntegerField()
    #: none for any model that the target is for
    model = models.ForeignKey(DeviceModel, null=True, on_delete=models.PROTECT, related_name="+")
    uplink = models.CharField(max_length=60, blank=True)
    from_version = models.CharField(max_length=64, blank=True)
    choice = models.CharField(max_length=10, choices=TargetChoice.choices)
    image = models.ForeignKey(Image, null=True, on_delete=models.PROTECT, related_name="+")
    #: a line of versions, like 5.1
    within = models.CharField(max_length=64, blank=True)

    class Meta:
        ordering = ("position",)
        constraints = (
            models.UniqueConstraint(fields=["rollout", "position"], name="change_position_once"),
            models.UniqueConstraint(
                fields=["rollout", "model", "uplink", "from_version"],
                condition=Q(model__isnull=False),
                name="change_once_for_whom",
            ),
            models.CheckConstraint(
                condition=Q(choice="image", image__isnull=False)
                | Q(choice="within", image=None) & ~Q(within="")
                | Q(choice__in=["newest", "leave_out"], image=None),
                name="change_says_what",
            ),
        )

    @property
    def as_change(self) -> Change:
        """The row as the core reads it."""
        return Change(
            choice=Choice(self.choice),
            model=self.model_id,
            uplink=self.uplink,
            from_version=self.from_version,
            image=self.image_id,
            within=self.within,
        )


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
    #: at most so many devices not tried yet; none asks nothing
    max_unreached = models.PositiveIntegerField(null=True)
    #: at least so many must have been tried before its gate opens; none for half of them
    min_tried = models.PositiveIntegerField(null=True)
    #: somebody other than who launched must agree before the next ring opens
    needs_approval = models.BooleanField(default=False)
    approved_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    approved_at = models.DateTimeField(null=True)
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
            models.CheckConstraint(
                condition=Q(approved_by=None, approved_at=None)
                | Q(approved_by__isnull=False, approved_at__isnull=False),
                name="ring_approval_whole",
            ),
        )


class ExcludedDevice(models.Model):
    """A device of the audience that does not take part, and why."""

    rollout = models.ForeignKey(Rollout, on_delete=models.CASCADE, db_index=False)
    device = models.ForeignKey(Device, on_delete=models.CASCADE)
    outcome = models.CharField(max_length=20, choices=OutcomeChoice.choices)
    reason = models.CharField(max_length=120, blank=True)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["rollout", "device"], name="left_out_once"),)


class ManualExclusion(models.Model):
    """A device that somebody takes out of a rollout before its launch, and why."""

    rollout = models.ForeignKey(Rollout, on_delete=models.CASCADE, related_name="taken_out")
    device = models.ForeignKey(Device, on_delete=models.CASCADE)
    reason = models.CharField(max_length=120)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["rollout", "device"], name="taken_out_once"),)


class DowngradePermit(models.Model):
    """What a device is shown so that it goes down to a version, which it refuses otherwise: a JWS made as devices are
    taken into a rollout that downgrades or rolls back."""

    rollout = models.ForeignKey(Rollout, on_delete=models.CASCADE, related_name="downgrade_permits")
    image = models.ForeignKey(Image, on_delete=models.PROTECT, related_name="+")
    jws = models.TextField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=["rollout", "image"], name="permit_once"),)


class RingPlan(models.Model):
    """Rings kept under a name, to be used again. Each change is a version of its own; rollouts keep theirs."""

    name = models.CharField(max_length=60, unique=True)
    note = models.CharField(max_length=300, blank=True)
    archived = models.BooleanField(default=False)


class RingPlanVersion(models.Model):
    """The rings of a plan as they were kept once; never changed."""

    plan = models.ForeignKey(RingPlan, on_delete=models.CASCADE, related_name="versions")
    number = models.PositiveIntegerField()
    #: the rings as the API takes them
    rings = models.JSONField()
    kept_at = models.DateTimeField()
    kept_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")

    class Meta:
        ordering = ("-number",)
        constraints = (models.UniqueConstraint(fields=["plan", "number"], name="plan_version_once"),)


class KeptSteps(models.Model):
    """What the steps of a rollout's deliveries told of it, kept when they are deleted as they are old
    (`rollouts.watch.steps`)."""

    rollout = models.OneToOneField(Rollout, on_delete=models.CASCADE, primary_key=True, related_name="kept_steps")
    told = models.JSONField()
    #: whether the last step is deleted
    is_done = models.BooleanField(default=False)


class StoredForecast(models.Model):
    """An open rollout as it was last forecast, for lists and the calendar: each of its moments is empty where, in so
    many of the simulated futures, it does not get through."""

    rollout = models.OneToOneField(Rollout, on_delete=models.CASCADE, primary_key=True, related_name="forecast")
    at = models.DateTimeField()
    low = models.DateTimeField(null=True)
    median = models.DateTimeField(null=True)
    high = models.DateTimeField(null=True)
    #: of each ring its place, and when it opens and is through: low, median and high, as above
    rings = models.JSONField(default=list)
    #: how many devices are confirmed in each hour from `at` on, by the median
    hourly = models.JSONField(default=list)
    #: of the sites whose uplinks have most to carry, by id: how many files come at once in each hour from `at` on
    transfers = models.JSONField(default=dict)

    objects = StoredForecastQuerySet.as_manager()
