"""Deleting the steps of single devices in rollouts of long ago. The deliveries stay, with how each ended, and so does
what the steps told of the rollout as a whole."""

from datetime import datetime

from django.db import transaction

from herald.deliveries import retention as deliveries
from herald.retention.totals import Save
from herald.rollouts.models import KeptSteps, Rollout
from herald.rollouts.watch.steps import counted_steps

KEY = "rollout-steps"


def oldest_steps() -> datetime | None:
    """When the first rollout ended of which all steps are there."""
    return Rollout.objects.with_steps().values_list("ended_at", flat=True).first()


def count_steps(before: datetime) -> int:
    """How many steps there are of rollouts that ended before a moment."""
    return deliveries.count_steps(Rollout.objects.with_steps().filter(ended_at__lt=before))


def delete_steps(before: datetime, most: int, save: Save) -> int:
    """Delete at most so many steps of a rollout that ended before a moment; how many were, 0 at the end. What they tell
    is kept with the first."""
    while True:
        with transaction.atomic():
            begun = KeptSteps.objects.filter(is_done=False).select_for_update(skip_locked=True).first()
            if begun is None:
                rollout = Rollout.objects.with_steps().filter(ended_at__lt=before).first()
                if rollout is None:
                    return 0
                begun = KeptSteps.objects.create(rollout=rollout, told=counted_steps(rollout).kept())
            count = deliveries.delete_steps(begun.rollout_id, most, save)
            if count < most:
                begun.is_done = True
                begun.save(update_fields=["is_done"])
        if count:
            return count
