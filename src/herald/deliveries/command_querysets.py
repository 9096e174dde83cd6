"""Queries about deliveries that commands ask, and the phases that all ask."""

from collections.abc import Collection, Sequence
from datetime import UTC, date, datetime
from typing import TYPE_CHECKING, Any, Self

from django.db import models
from django.db.models import BooleanField, Count, ExpressionWrapper, F, Q
from django.db.models.functions import TruncDate

from herald.fleet.presence import heard_in_time
from herald_core.deliveries import ACTIVE, OPEN, Phase

if TYPE_CHECKING:
    from herald.commands.models import Occurrence


class CommandQuerySet(models.QuerySet["Delivery"]):
    """Of deliveries of all kinds."""

    def in_hand(self) -> Self:
        return self.filter(phase__in=[p.value for p in ACTIVE])

    def open(self) -> Self:
        return self.filter(phase__in=[p.value for p in OPEN])

    def waiting(self) -> Self:
        return self.filter(phase=Phase.WAITING.value)

    def of_schedule(self, schedule_id: int) -> Self:
        return self.filter(occurrence__schedule_id=schedule_id)

    def open_commands(self) -> list[tuple[int, str, int]]:
        """Occurrence, phase and how many, of all commands that are open: read from an index that holds no others,
        however many there were in all."""
        rows = self.open().filter(occurrence__isnull=False).order_by()
        return list(rows.values_list("occurrence_id", "phase").annotate(n=Count("*")))

    def of_occurrences(self, occurrence_ids: Collection[int]) -> Self:
        return self.filter(occurrence_id__any=list(occurrence_ids))

    def outcomes(self, schedule_id: int, occurrence_ids: Collection[int]) -> "models.QuerySet[Any, Any]":
        """Device, phase, answer and error of the devices of some firings of a schedule."""
        rows = self.of_schedule(schedule_id).of_occurrences(occurrence_ids).order_by()
        return rows.values_list("device_id", "phase", "results__answer", "last_error")

    def ends_since(self, schedule_id: int, since: datetime) -> "models.QuerySet[Any, Any]":
        """Phase, whether it ended after its firing had given up, and how many, of the firings of a schedule since."""
        rows = self.of_schedule(schedule_id).filter(occurrence__fires_at__gte=since).order_by()
        late = ExpressionWrapper(Q(phase_since__gt=F("occurrence__expires_at")), BooleanField())
        ends = rows.annotate(is_late=late).values_list("phase", "is_late")
        found: models.QuerySet[Any, Any] = ends.annotate(n=Count("id"))
        return found

    def phases_of_times(self, schedule_id: int, local_times: Sequence[str]) -> "models.QuerySet[Any, Any]":
        """Device, time of the rule and phase of the firings of a schedule at these times."""
        rows = self.of_schedule(schedule_id).filter(occurrence__local_time__in=list(local_times)).order_by()
        return rows.values_list("device_id", "occurrence__local_time", "phase")

    def missed_in_all(self, schedule_id: int, local_times: Sequence[str]) -> int:
        """How many devices missed the firings of a schedule at every one of these times."""
        rows = self.of_schedule(schedule_id).filter(
            occurrence__local_time__in=list(local_times), phase=Phase.EXPIRED.value
        )
        counted = rows.order_by().values("device_id").annotate(n=Count("id"))
        return int(counted.filter(n=len(local_times)).count())

    def counts_by_occurrence(self, occurrence_ids: Collection[int]) -> list[tuple[int, str, int]]:
        rows = self.filter(occurrence_id__any=list(occurrence_ids)).order_by()
        return list(rows.values_list("occurrence_id", "phase").annotate(n=Count("id")))

    def occurrence_cells(self, occurrence_ids: Collection[int], fields: Sequence[str]) -> list[tuple[Any, ...]]:
        """Occurrence, phase, the fields, and how many devices, of some firings."""
        rows = self.filter(occurrence_id__any=list(occurrence_ids)).order_by()
        return list(rows.values_list("occurrence_id", "phase", *fields).annotate(n=Count("id")))

    def late_since_tally(self, occurrences: "models.QuerySet[Occurrence]") -> set[int]:
        """Those of some firings that were tallied before a device of theirs proved well after all, and whose answers
        are all there to be counted anew."""
        rows = self.filter(late=True, occurrence__in=occurrences, occurrence__detail="whole")
        return set(rows.filter(phase_since__gt=F("occurrence__tallied_at")).values_list("occurrence_id", flat=True))

    def failed_by_day(self, since: datetime) -> list[tuple[int | None, int, date, int]]:
        """Rollout or (where that is None) schedule, a day (UTC) and how many devices it failed on that day; of firings
        only those whose answers are all there."""
        rows = self.filter(phase=Phase.FAILED.value, phase_since__gte=since)
        whole = rows.filter(Q(occurrence=None) | Q(occurrence__detail="whole")).order_by()
        days = whole.annotate(day=TruncDate("phase_since", tzinfo=UTC))
        return list(days.values_list("rollout_id", "occurrence__schedule_id", "day").annotate(n=Count("id")))

    def unheard_by_schedule(self, schedule_ids: Collection[int], now: datetime) -> dict[int, int]:
        """How many devices whose active order is a command of a schedule are not heard from in time."""
        rows = self.filter(occurrence__schedule__in=list(schedule_ids)).in_hand()
        late = rows.exclude(heard_in_time(now, "device__")).order_by()
        return dict(late.values_list("occurrence__schedule_id").annotate(n=Count("id")))
