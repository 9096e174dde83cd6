"""What wants a person's attention: items that the system opens and closes, and what it has put in quarantine."""

from django.conf import settings
from django.db import models
from django.db.models import Q

from herald.attention.querysets import ItemQuerySet, QuarantineQuerySet


class ItemKind(models.TextChoices):
    """Why an item is open."""

    QUARANTINED = "quarantined", "Quarantined"
    FLEET_SILENT = "fleet-silent", "The fleet fell silent"
    UNKNOWN_ZONE = "unknown-zone", "Unknown time zone"
    SITE_SILENT = "site-silent", "A site fell silent"
    SILENT = "silent", "Silent"
    LOW_BATTERY = "low-battery", "Low battery"
    NO_FIRMWARE = "no-firmware", "No firmware reported"
    AWAITING_ADMISSION = "awaiting-admission", "Waiting for admission"
    STOPPED_PART = "stopped-part", "A part of the system stopped"
    LATE_JOINERS = "late-joiners", "Late joiners wait"
    MISSED = "missed", "Missed a command again"
    UNSETTLED = "unsettled", "Unsettled members"
    HALTED = "halted", "A rollout stopped itself"
    STUCK = "stuck", "A ring cannot go on by itself"
    APPROVAL = "approval", "Waits for an approval"
    STANDING_IN = "standing-in", "An administrator stands in for an approver"
    FOLLOWED_LIST = "followed-list", "A list kept elsewhere"


class Part(models.TextChoices):
    """The kinds of object that the clock works on one by one."""

    ROLLOUT = "rollout", "Rollout"
    SCHEDULE = "schedule", "Schedule"
    GROUP = "group", "Group"
    DEVICE = "device", "Device"
    DELIVERY = "delivery", "Delivery"


class Item(models.Model):
    """Something to look at. One row a time: it is opened, changes, and is closed; later it may open as a new row.

    `object_kind` and `object_id` say what it is about; empty and 0 for the installation as a whole. `rule` lists the
    devices where it counts devices.
    """

    kind = models.CharField(max_length=20, choices=ItemKind)
    object_kind = models.CharField(max_length=20, blank=True)
    object_id = models.BigIntegerField(default=0)
    cause = models.CharField(max_length=300)
    count = models.PositiveIntegerField(null=True)
    rule = models.TextField(blank=True)
    opened_at = models.DateTimeField()
    changed_at = models.DateTimeField()
    closed_at = models.DateTimeField(null=True)
    #: since when somebody says that they know of it
    acknowledged_at = models.DateTimeField(null=True)
    acknowledged_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    #: who looks after it
    assigned_to = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    #: until when nobody wants to be shown it, and how many devices it counted then: one that grows comes back sooner
    snoozed_until = models.DateTimeField(null=True)
    snoozed_count = models.PositiveIntegerField(null=True)
    #: what its devices share and others do not: conditions, each as a `rule`, and in `words` how many hold it
    shared = models.JSONField(default=list, blank=True)
    #: when that was looked at, and how many devices it counted then
    shared_at = models.DateTimeField(null=True)
    shared_count = models.PositiveIntegerField(null=True)

    objects = ItemQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(kind__in=ItemKind.values), name="item_kind_known"),
            models.CheckConstraint(
                condition=Q(acknowledged_at=None, acknowledged_by=None) | Q(acknowledged_at__isnull=False),
                name="item_acknowledged_when",
            ),
            models.CheckConstraint(
                condition=Q(snoozed_until=None, snoozed_count=None) | Q(snoozed_until__isnull=False),
                name="item_snoozed_until",
            ),
            models.CheckConstraint(
                condition=Q(shared_at=None, shared=[]) | Q(shared_at__isnull=False), name="item_shared"
            ),
            models.UniqueConstraint(
                fields=["kind", "object_kind", "object_id"], condition=Q(closed_at=None), name="item_open_once"
            ),
        )
        indexes = (models.Index(fields=["-closed_at", "-id"], name="item_closed"),)


class Quarantine(models.Model):
    """An object on which the clock's work failed. It is left alone until `retry_at`; all others go on."""

    part = models.CharField(max_length=10, choices=Part)
    object_id = models.BigIntegerField()
    cause = models.CharField(max_length=300)
    #: where it failed: the innermost calls, for whoever fixes it
    trace = models.TextField(blank=True)
    since = models.DateTimeField()
    failures = models.PositiveIntegerField(default=1)
    retry_at = models.DateTimeField()

    objects = QuarantineQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(part__in=Part.values), name="quarantine_part_known"),
            models.UniqueConstraint(fields=["part", "object_id"], name="quarantine_once"),
        )
