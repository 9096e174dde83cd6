"""Ending the attempts of devices that began an order and were not heard of since."""

from datetime import UTC, datetime
from functools import partial
from typing import TYPE_CHECKING

from django.db import transaction

from herald.attention.models import Part
from herald.attention.quarantine import Isolation
from herald.clock.heartbeat import whole_since
from herald.deliveries.models import Delivery
from herald.deliveries.services import BATCH_SIZE, Change, apply_changes, as_in_hand
from herald.fleet.presence import fleet_silence
from herald_core.deliveries import Kind, failure

if TYPE_CHECKING:
    from collections.abc import Sequence

    from django.db.models import QuerySet

#: why the attempt of a device is ended that has it as its active order, and what people read of it
TIME_OUTS = {
    "no-answer": "began, then was not heard of in time",
    "no-progress": "began and is heard of, but says nothing of the order",
    "not-fetched": "did not have the file when its time was over",
}


def end_unheard(kind: Kind, isolation: Isolation) -> None:
    """End the attempts of devices that began an order of this kind and do not go on with it.

    What the server missed while it was away is not held against them, nor what keeps the whole fleet from calling.
    """
    now = isolation.now
    whole = whole_since(datetime.now(UTC))
    if whole is None:
        return
    found = Delivery.objects.not_heard_of(kind, now, whole)
    overdue = {cause: rows.first_ids(BATCH_SIZE) for cause, rows in found.items()}
    if any(overdue.values()) and fleet_silence(now) is not None:
        return
    for cause, ids in overdue.items():
        isolation.run_batch(Part.DELIVERY, ids, partial(_time_out, found[cause], cause, now))


def _time_out(rows: "QuerySet[Delivery]", cause: str, now: datetime, ids: "Sequence[int]") -> int:
    with transaction.atomic():
        late = rows.filter(id__any=list(ids)).select_related("image").order_by("id")
        changes = [
            Change(delivery=delivery, steps=[failure(as_in_hand(delivery), cause, TIME_OUTS[cause])])
            for delivery in late.select_for_update(of=("self",))
        ]
        apply_changes(changes, now=now)
    return len(changes)
