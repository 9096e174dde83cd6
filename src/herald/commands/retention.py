"""Deleting the answers of single devices to firings of long ago; how many devices ended how stays with the firing."""

from datetime import datetime
from functools import partial

from django.db import transaction

from herald.commands.models import Detail, Occurrence, Output
from herald.commands.outputs import path_of
from herald.commands.tallies import tally_again
from herald.deliveries import retention as deliveries
from herald.retention.totals import Save

KEY = "command-answers"


def oldest_answer() -> datetime | None:
    """When the first firing had given up of which all answers are there."""
    return Occurrence.objects.to_shorten().values_list("expires_at", flat=True).first()


def count_answers(before: datetime) -> int:
    """How many devices' answers are to firings that had given up before a moment and are over."""
    return Occurrence.objects.answers_before(before)


def delete_answers(before: datetime, most: int, save: Save) -> int:
    """Delete at most so many answers to the oldest firing that had given up before a moment; how many were, 0 at the
    end. From the first on, the firing shows only its tally, which is made anew before."""
    while True:
        with transaction.atomic():
            occurrence = Occurrence.objects.next_to_shorten(before)
            if occurrence is None:
                return 0
            if occurrence.detail == Detail.WHOLE:
                tally_again(occurrence)
                occurrence.detail = Detail.GOING
            found = deliveries.answers_of(occurrence.pk, most)
            outputs = list(Output.objects.filter(delivery__in=found))
            Output.objects.filter(pk__in=[o.pk for o in outputs]).delete()
            deliveries.delete_answers(found, save)
            if len(found) < most:
                occurrence.detail = Detail.TOTALS
            occurrence.save(update_fields=["detail"])
            transaction.on_commit(partial(_unlink, outputs))
        if found:
            return len(found)


def _unlink(outputs: list[Output]) -> None:
    for output in outputs:
        path_of(output).unlink(missing_ok=True)
