"""Deleting imports of long ago with their files, each as a whole; the devices stay."""

from datetime import datetime

from django.db import transaction
from django.db.models import QuerySet

from herald.imports.models import CellError, Import, ImportedDevice, ImportState
from herald.retention.totals import Save

KEY = "imports"
_AT_WORK = (ImportState.CHECKING, ImportState.APPLYING)
_COLUMNS = ("import", "file", "at", "device", "before", "after")


def oldest_import() -> datetime | None:
    """When the first import was begun that is still there."""
    return _at_rest().values_list("created_at", flat=True).first()


def count_imports(before: datetime) -> int:
    """How many are older."""
    return _at_rest().filter(created_at__lt=before).count()


def delete_imports(before: datetime, most: int, save: Save) -> int:
    """Delete the oldest import that was begun before a moment, with its file, however large; 1, or 0 at the end."""
    with transaction.atomic():
        oldest = _at_rest().filter(created_at__lt=before).defer("content")
        found = oldest.select_for_update(skip_locked=True).first()
        if found is None:
            return 0
        devices = ImportedDevice.objects.filter(of_import=found).order_by()
        save(
            _COLUMNS,
            [
                (found.pk, found.file_name, found.created_at, device, was, now)
                for device, was, now in devices.values_list("device_id", "before", "after").iterator()
            ],
        )
        devices._raw_delete(devices.db)
        errors = CellError.objects.filter(of_import=found).order_by()
        errors._raw_delete(errors.db)
        found.delete()
    return 1


def _at_rest() -> "QuerySet[Import]":
    return Import.objects.exclude(state__in=_AT_WORK).order_by("created_at", "id")
