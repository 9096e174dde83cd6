"""Which schedules fire at devices that something else is planned for."""

from datetime import datetime
from typing import TYPE_CHECKING

from herald.commands.models import Schedule
from herald.commands.sentence import schedule_sentence
from herald.deliveries.conflicts import AudienceConflict, register_conflict_finder
from herald.groups.audience import audience_query

if TYPE_CHECKING:
    from django.db.models import QuerySet

    from herald.fleet.models import Device


@register_conflict_finder
def schedules(devices: "QuerySet[Device]", now: datetime) -> list[AudienceConflict]:
    """Active schedules with devices in common: a device does one thing at a time."""
    found = []
    for schedule in Schedule.objects.active():
        audience = audience_query(schedule)
        count = devices.filter(pk__in=audience.order_by().values("pk")).count()
        if count:
            what = (
                "a device that is busy with one waits with the other; this command expires there after "
                f"{schedule.expires_after_minutes} minutes"
            )
            found.append(
                AudienceConflict(
                    kind="schedule", id=schedule.pk, name=schedule_sentence(schedule), devices=count, what=what
                )
            )
    return found
