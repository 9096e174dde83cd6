"""Deleting what happened to single devices in commands and rollouts of long ago."""

from collections.abc import Collection
from typing import Any

from django.db.models import QuerySet

from herald.deliveries.models import Delivery, DeliveryEvent
from herald.retention.totals import Save

_ANSWERS = {
    "id": "id", "occurrence": "occurrence_id", "device": "device_id", "phase": "phase", "since": "phase_since",
    "attempt": "attempt", "results": "results", "error": "last_error", "error_text": "last_error_text",
}  # fmt: skip
_STEPS = {
    "id": "id", "rollout": "delivery__rollout_id", "delivery": "delivery_id", "device": "delivery__device_id",
    "at": "at", "from": "from_phase", "to": "to_phase", "attempt": "attempt", "cause": "cause", "detail": "detail",
}  # fmt: skip


def answers_of(occurrence_id: int, most: int) -> list[int]:
    """The ids of at most so many deliveries of a firing."""
    rows = Delivery.objects.filter(occurrence=occurrence_id).order_by("device_id")
    return list(rows.values_list("id", flat=True)[:most])


def delete_answers(delivery_ids: Collection[int], save: Save) -> None:
    """Delete these deliveries, and all that happened to them."""
    rows = Delivery.objects.filter(pk__in=delivery_ids)
    save(tuple(_ANSWERS), list(rows.values_list(*_ANSWERS.values())))
    DeliveryEvent.objects.filter(delivery__in=delivery_ids).order_by()._raw_delete(DeliveryEvent.objects.db)
    rows.order_by()._raw_delete(Delivery.objects.db)


def count_steps(rollouts: "QuerySet[Any]") -> int:
    """How many changes there were of the deliveries of these rollouts."""
    return DeliveryEvent.objects.filter(delivery__rollout__in=rollouts.order_by().values("pk")).count()


def delete_steps(rollout_id: int, most: int, save: Save) -> int:
    """Delete at most so many of the changes of a rollout's deliveries; how many were, 0 at the end. The deliveries
    stay."""
    found = DeliveryEvent.objects.filter(delivery__rollout_id=rollout_id).order_by()
    rows = list(found.values_list(*_STEPS.values())[:most])
    if rows:
        save(tuple(_STEPS), rows)
        DeliveryEvent.objects.filter(pk__in=[row[0] for row in rows]).delete()
    return len(rows)
