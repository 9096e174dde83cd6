"""What wants a person's attention: items that the system opens and closes, and what it has put in quarantine."""

from django.db import models
from django.db.models import Q

from herald.attention.querysets import ItemQuerySet, QuarantineQuerySet


class ItemKind(models.TextChoices):
    """Why an item is open."""

    QUARANTINED = "quarantined", "Quarantined"
    FLEET_SILENT = "fleet-silent", "The fleet fell silent"
    UNKNOWN_ZONE = "unknown-zone", "Unknown time zone"
    SILENT = "silent", "Silent"
    LOW_BATTERY = "low-battery", "Low battery"
    NO_FIRMWARE = "no-firmware", "No firmware reported"
    AWAITING_ADMISSION = "awaiting-admission", "Waiting for admission"
    STOPPED_PART = "stopped-part", "A part of the system stopped"
    LATE_JOINERS = "late-joiners", "Late joiners wait"
    MISSED = "missed", "Missed a command again"
    UNSETTLED = "unsettled", "Unsettled members"


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

    objects = ItemQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(kind__in=ItemKind.values), name="item_kind_known"),
            models.UniqueConstraint(
                fields=["kind", "object_kind", "object_id"], condition=Q(closed_at=None), name="item_open_once"
            ),
        )


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
