"""Every query about edits."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Self

from django.db import models
from django.db.models import F, JSONField, TextField, Value
from django.db.models.functions import Cast

from herald.db.expressions import JsonMember
from herald_core.edits import State

if TYPE_CHECKING:
    pass


class EditedDeviceQuerySet(models.QuerySet["EditedDevice"]):
    def to_do(self, edit_id: int) -> Self:
        """Those of an edit that are not written yet, in the order of their devices."""
        return self.filter(edit_id=edit_id, after__isnull=True).order_by("device_id")

    def note_written(self, before: Mapping[int, State], after: Mapping[int, State]) -> None:
        """Keep the states of devices before and after, in one statement."""
        key = Cast(F("device_id"), TextField())

        def column(states: Mapping[int, State]) -> JsonMember:
            return JsonMember(Value({str(pk): state for pk, state in states.items()}, JSONField()), key)

        self.order_by().filter(device_id__any=list(after)).update(before=column(before), after=column(after))

    def of_device(self, device_id: int) -> Self:
        """What was done to a device and stands, newest first."""
        return self.filter(device_id=device_id, after__isnull=False).exclude(edit__state="undone").order_by("-id")

    def written(self, edit_id: int) -> Self:
        return self.filter(edit_id=edit_id, after__isnull=False).order_by("device_id")
