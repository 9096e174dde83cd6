"""Deleting edits of long ago, each as a whole: one of which half were there would be undone by half."""

from datetime import datetime

from django.db import transaction
from django.db.models import QuerySet

from herald.edits.models import Edit, EditedDevice, EditState
from herald.retention.totals import Save

KEY = "edits"
_ENDED = (EditState.DONE, EditState.UNDONE, EditState.FAILED)
_COLUMNS = ("edit", "sentence", "at", "device", "before", "after")


def oldest_edit() -> datetime | None:
    """When the first edit was made that is still there."""
    return _ended().values_list("created_at", flat=True).first()


def count_edits(before: datetime) -> int:
    """How many are older."""
    return _ended().filter(created_at__lt=before).count()


def delete_edits(before: datetime, most: int, save: Save) -> int:
    """Delete the oldest edit that was made before a moment, with its devices, however many; 1, or 0 at the end."""
    with transaction.atomic():
        edit = _ended().filter(created_at__lt=before).select_for_update(skip_locked=True).first()
        if edit is None:
            return 0
        devices = EditedDevice.objects.filter(edit=edit).order_by()
        save(
            _COLUMNS,
            [
                (edit.pk, edit.sentence, edit.created_at, device, was, now)
                for device, was, now in devices.values_list("device_id", "before", "after").iterator()
            ],
        )
        devices._raw_delete(devices.db)
        edit.delete()
    return 1


def _ended() -> "QuerySet[Edit]":
    return Edit.objects.filter(state__in=_ENDED).order_by("created_at", "id")
