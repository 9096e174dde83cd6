"""Deliveries: one order for one device, and everything that happened to it."""

from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import F, Q

from herald.db.limits import limited_to
from herald.deliveries.querysets import DeliveryEventQuerySet, DeliveryQuerySet
from herald.fleet.models import Device
from herald.images.models import Image
from herald_core.deliveries import ACTIVE, NO_COUNTER, OPEN, RECALLABLE, Kind, Phase

PHASES = [(p.value, p.value) for p in Phase]
KINDS = [(k.value, k.value) for k in Kind]


class Delivery(models.Model):
    """One order for one device. Its phase changes only by the core's table (`deliveries.services`)."""

    device = models.ForeignKey(Device, on_delete=models.CASCADE, related_name="deliveries")
    kind = models.CharField(max_length=10, choices=KINDS)
    rollout = models.ForeignKey(
        "rollouts.Rollout", null=True, on_delete=models.CASCADE, related_name="deliveries", db_index=False
    )
    ring = models.ForeignKey(
        "rollouts.Ring", null=True, on_delete=models.CASCADE, related_name="deliveries", db_index=False
    )
    image = models.ForeignKey(Image, null=True, on_delete=models.PROTECT, db_index=False)
    #: what the device is to run in the end; `image` is what this step installs
    target = models.ForeignKey(Image, null=True, on_delete=models.PROTECT, db_index=False, related_name="+")
    #: which step of how many, counted from 1, and the images still to come, in order
    hop = models.PositiveSmallIntegerField(default=1)
    hops = models.PositiveSmallIntegerField(default=1)
    remaining_image_ids = ArrayField(models.BigIntegerField(), default=list, blank=True)
    #: the delivery that stands for its device in the rollout; steps that are done do not
    is_current_step = models.BooleanField(default=True)
    occurrence = models.ForeignKey(
        "commands.Occurrence", null=True, on_delete=models.CASCADE, related_name="deliveries", db_index=False
    )
    phase = models.CharField(max_length=10, choices=PHASES, default=Phase.WAITING.value)
    phase_since = models.DateTimeField()
    created_at = models.DateTimeField()
    #: not offered before; after a failed attempt, the end of the pause
    not_before = models.DateTimeField()
    #: expires if the device has not begun by then
    not_after = models.DateTimeField()
    #: until when the device may begin what it was offered
    offer_until = models.DateTimeField(null=True)
    #: counts from 1; the current one, or the next one
    attempt = models.PositiveSmallIntegerField(default=1)
    max_attempts = models.PositiveSmallIntegerField(default=1)
    report_counter = models.BigIntegerField(default=NO_COUNTER)
    #: the boot of the device in which it counts, where it names its boots
    report_boot = models.CharField(max_length=40, blank=True)
    #: when the device last said something about this order
    heard_at = models.DateTimeField(null=True)
    progress = models.PositiveSmallIntegerField(default=0)
    from_version = models.CharField(max_length=64, blank=True)
    last_error = models.CharField(max_length=60, blank=True)
    last_error_text = models.CharField(max_length=300, blank=True)
    results = models.JSONField(default=dict)
    #: it had ended otherwise, and proved well later
    late = models.BooleanField(default=False)
    #: why the device counts as lost although it was confirmed; empty while it is well
    lost = models.CharField(max_length=20, blank=True)
    #: how often its device had restarted when it was first looked at after confirming
    boots_before = models.PositiveIntegerField(null=True)
    #: why somebody holds it back; while it waits it is not offered
    hold_reason = models.CharField(max_length=120, blank=True)
    #: its device joined the audience after the launch
    joined_late = models.BooleanField(default=False)
    #: its place in the spread of starts, from 0 up to 1
    spread_position = models.FloatField(default=0.0)
    #: somebody wants it done before its ring opens
    expedited = models.BooleanField(default=False)
    offered_at = models.DateTimeField(null=True)
    #: the active order asks for the file only, ahead of the hours in which it may be installed
    fetch_only = models.BooleanField(default=False)
    #: since when the device keeps the file of this step, fetched ahead
    file_stored_at = models.DateTimeField(null=True)
    #: when the device first showed the rollout's notice, how often the install was put off there, and when last
    notice_shown_at = models.DateTimeField(null=True)
    times_deferred = models.PositiveSmallIntegerField(default=0)
    deferred_at = models.DateTimeField(null=True)

    objects = DeliveryQuerySet.as_manager()

    #: leave to go down to its image, put here by whoever tells the device of the order
    permit: str = ""

    class Meta:
        constraints = (
            models.UniqueConstraint(
                fields=["device"], condition=Q(phase__in=[p.value for p in ACTIVE]), name="one_order_in_hand"
            ),
            models.UniqueConstraint(
                fields=["rollout", "device"], condition=Q(is_current_step=True), name="delivery_once_per_rollout"
            ),
            models.UniqueConstraint(fields=["rollout", "device", "hop"], name="delivery_once_per_hop"),
            models.UniqueConstraint(fields=["occurrence", "device"], name="delivery_once_per_occurrence"),
            models.CheckConstraint(condition=Q(phase__in=[p.value for p in Phase]), name="delivery_phase_known"),
            # a step that is done and leaves others to come makes room for the next one at once
            models.CheckConstraint(
                condition=Q(is_current_step=True, hop=F("hops"))
                | Q(is_current_step=True) & ~Q(phase="confirmed")
                | Q(is_current_step=False, phase="confirmed"),
                name="delivery_steps_follow",
            ),
            models.CheckConstraint(condition=Q(lost="") | Q(phase="confirmed"), name="delivery_lost_was_confirmed"),
            models.CheckConstraint(condition=Q(late=False) | Q(phase="confirmed"), name="delivery_late_is_confirmed"),
            models.CheckConstraint(condition=Q(hop__gte=1) & Q(hop__lte=F("hops")), name="delivery_hop_within"),
            models.CheckConstraint(
                condition=Q(spread_position__gte=0.0) & Q(spread_position__lt=1.0), name="delivery_place_is_share"
            ),
            models.CheckConstraint(condition=Q(fetch_only=False) | Q(kind="install"), name="delivery_fetch_is_install"),
            models.CheckConstraint(
                condition=Q(
                    kind="install",
                    rollout__isnull=False,
                    ring__isnull=False,
                    image__isnull=False,
                    target__isnull=False,
                    occurrence__isnull=True,
                )
                | Q(kind="command", rollout__isnull=True, image__isnull=True, occurrence__isnull=False),
                name="delivery_belongs",
            ),
        )
        indexes = (
            models.Index(fields=["ring"], name="delivery_ring"),
            # in this order the turn's counts are read from the index alone
            models.Index(
                fields=["rollout", "ring", "phase", "image", "expedited"],
                condition=Q(is_current_step=True),
                name="delivery_tally",
            ),
            models.Index(fields=["rollout", "id"], condition=Q(is_current_step=True), name="delivery_page"),
            models.Index(fields=["ring"], condition=~Q(lost=""), name="delivery_lost"),
            # what each turn of the clock looks for must not grow with the deliveries that have ended
            models.Index(
                fields=["not_after"], condition=Q(phase__in=[p.value for p in RECALLABLE]), name="delivery_overdue"
            ),
            models.Index(
                fields=["rollout"],
                condition=Q(is_current_step=True, kind="install", phase__in=[Phase.FAILED.value, Phase.EXPIRED.value]),
                name="delivery_ended_badly",
            ),
            models.Index(fields=["phase_since"], condition=Q(phase=Phase.FAILED.value), name="delivery_failed_since"),
            models.Index(
                fields=["occurrence", "phase"],
                condition=Q(phase__in=[p.value for p in OPEN], occurrence__isnull=False),
                name="delivery_open_commands",
            ),
            models.Index(
                fields=["occurrence"], condition=Q(late=True, occurrence__isnull=False), name="delivery_late_commands"
            ),
        )

    @property
    def seen_rollout_id(self) -> int | None:
        """The rollout that sends it; None for a command, and where whoever asks does not see that rollout
        (`herald.db.limits`). Its rollout was asked for in the same query."""
        return self.rollout_id if limited_to() is None or self.rollout is not None else None


class DeliveryEvent(models.Model):
    """One change of a delivery. Only ever added to."""

    delivery = models.ForeignKey(Delivery, on_delete=models.CASCADE, related_name="events")
    at = models.DateTimeField()
    from_phase = models.CharField(max_length=10, choices=PHASES)
    to_phase = models.CharField(max_length=10, choices=PHASES)
    attempt = models.PositiveSmallIntegerField()
    cause = models.CharField(max_length=120)
    detail = models.CharField(max_length=300, blank=True)

    objects = DeliveryEventQuerySet.as_manager()
