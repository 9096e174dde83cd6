"""Edits of devices: one step of a person, which can be undone as one."""

from django.conf import settings
from django.db import models
from django.db.models import Q

from herald.edits.querysets import EditedDeviceQuerySet
from herald.fleet.models import Device


class EditState(models.TextChoices):
    """How far an edit is."""

    RUNNING = "running", "Being applied"
    DONE = "done", "Done"
    UNDOING = "undoing", "Undoing"
    UNDONE = "undone", "Undone"
    FAILED = "failed", "Failed"


class Edit(models.Model):
    """One change of many devices. `device_count` are to change; `done_count` have, so far."""

    sentence = models.CharField(max_length=300)
    change = models.JSONField()
    state = models.CharField(max_length=10, choices=EditState, default=EditState.RUNNING)
    device_count = models.PositiveIntegerField()
    done_count = models.PositiveIntegerField(default=0)
    created_at = models.DateTimeField()
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    reason = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(state__in=EditState.values), name="edit_state_known"),
            models.CheckConstraint(condition=Q(done_count__lte=models.F("device_count")), name="edit_done_within"),
        )


class EditedDevice(models.Model):
    """A device of an edit: its state before, and after once it was written."""

    edit = models.ForeignKey(Edit, on_delete=models.CASCADE, related_name="devices", db_index=False)
    device = models.ForeignKey(Device, on_delete=models.CASCADE, related_name="+")
    before = models.JSONField(null=True)
    after = models.JSONField(null=True)

    objects = EditedDeviceQuerySet.as_manager()

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=["edit", "device"], name="edited_once"),
            models.CheckConstraint(
                condition=Q(before__isnull=True, after__isnull=True) | Q(before__isnull=False, after__isnull=False),
                name="edited_before_and_after",
            ),
        )
