"""Every query about templates, schedules, occurrences and what devices sent."""

from collections.abc import Collection
from datetime import date, datetime
from typing import TYPE_CHECKING, Any, Self

import msgspec
from django.db import connection, models
from django.db.models import Case, Exists, F, OuterRef, Subquery, Sum, When, Window
from psycopg import sql

from herald.db.expressions import containing
from herald.deliveries.models import Delivery
from herald.groups.audience import with_audience_words, with_named

if TYPE_CHECKING:
    from herald.commands.models import Occurrence

#: of so many latest times of a schedule that goes on, what became of each device is kept in any case
TIMES_KEPT = 3
_TOLD = msgspec.json.Decoder(list[tuple[int, int, float, Any]])


class TemplateQuerySet(models.QuerySet["CommandTemplate"]):
    def offered(self) -> Self:
        """Those that can be chosen: the built-in ones first in their order, then by name."""
        as_made = Case(When(is_built_in=True, then=F("pk")), default=0)
        return (
            self.filter(retired_at=None).prefetch_related("offered_by__model").order_by("-is_built_in", as_made, "name")
        )


class ScheduleQuerySet(models.QuerySet["Schedule"]):
    def listed(self) -> Self:
        """Newest first, with what the list shows."""
        return with_named(
            self.select_related("created_by", "approved_by", "template")
            .prefetch_related("include", "exclude", "template__offered_by__model")
            .order_by("-id")
        )

    def with_words(self, words: str) -> Self:
        """Those in which each word is found: as the id, or in the command, a group or a person's name."""
        return containing(
            self, words, ("name", "reason", "ticket", "template__name", "created_by__name", "include__name")
        )

    def active(self) -> Self:
        """Those that fire: not paused, not ended."""
        return with_named(
            self.filter(state="active").select_related("template").prefetch_related("include", "exclude").order_by("id")
        )

    def planned(self) -> Self:
        """The same, with what a calendar shows. Many are of one template, which is read once."""
        shown = self.filter(state="active").prefetch_related("template").order_by("id")
        return with_audience_words(shown.defer("fired_through", "quiet_until", "quiet_zones"))

    def locked(self) -> Self:
        """As they are now, locked against changes until the transaction ends."""
        return self.select_related("template").select_for_update(of=("self",))

    def using_group(self, group_id: int) -> Self:
        """Schedules, not ended, that name the group."""
        named = models.Q(include=group_id) | models.Q(exclude=group_id)
        return self.filter(named).exclude(state="ended").distinct().order_by("id")


class OccurrenceQuerySet(models.QuerySet["Occurrence"]):
    def schedules_of(self, ids: Collection[int]) -> dict[int, int]:
        """The schedules of some occurrences, by occurrence."""
        return dict(self.filter(pk__in=list(ids)).values_list("pk", "schedule_id"))

    def recent(self, schedule_ids: Collection[int], most: int) -> Self:
        """The latest of each of some schedules, at most so many of each; the latest first."""
        of_each = [self.filter(schedule_id=pk).order_by("-fires_at", "zone")[:most] for pk in schedule_ids]
        if len(of_each) < 2:  # which a union would not take
            return of_each[0] if of_each else self.none()
        return self.none().union(*of_each, all=True).order_by("-fires_at", "zone")

    def within(self, start: datetime, end: datetime) -> Self:
        """Firings in [start, end)."""
        return self.filter(fires_at__gte=start, fires_at__lt=end)

    def told_within(self, start: datetime, end: datetime, tally: str) -> list[tuple[int, int, float, Any]]:
        """Firings in [start, end), the first first: id, schedule, when in seconds since 1970, and a tally (the name of
        its column; None where nothing was kept)."""
        column = sql.Identifier(tally)
        with connection.cursor() as cursor:  # thousands of moments and tallies are read ten times sooner as one text
            cursor.execute(
                sql.SQL(
                    "SELECT json_agg(json_build_array(id, schedule_id, extract(epoch FROM fires_at), {})"
                    " ORDER BY fires_at, id)::text FROM commands_occurrence WHERE fires_at >= %s AND fires_at < %s"
                ).format(column),
                [start, end],
            )
            [text] = cursor.fetchone()
        return _TOLD.decode(text) if text else []

    def not_over(self) -> list[int]:
        """The ids of firings of which is not kept how they went."""
        return list(self.filter(tallied_at=None).values_list("pk", flat=True))

    def untallied(self, now: datetime, most: int) -> Self:
        """Firings that are over, and are not tallied, the oldest first."""
        still_open = Delivery.objects.open().filter(occurrence_id=OuterRef("pk"))
        over = self.filter(~Exists(still_open), tallied_at=None, expires_at__lte=now)
        return over.order_by("expires_at")[:most]

    def ends_since(self, moment: datetime) -> dict[str, int]:
        """How many devices ended in each phase, of all firings that were over, and tallied, since a moment."""
        with connection.cursor() as cursor:  # thousands of tallies are added up faster where they are
            cursor.execute(
                "SELECT row ->> 2, sum((row ->> 3)::bigint) FROM commands_occurrence, jsonb_array_elements(tally) row"
                " WHERE tallied_at >= %s GROUP BY 1",
                [moment],
            )
            return {phase: int(count) for phase, count in cursor.fetchall()}

    def failed_by_day(self, since: datetime) -> list[tuple[int, date, int]]:
        """Schedule, the day (UTC) of a firing and how many devices it failed on, of firings since a moment of which
        only the tally is kept."""
        with connection.cursor() as cursor:
            cursor.execute(
                "SELECT schedule_id, (fires_at AT TIME ZONE 'UTC')::date, sum((row ->> 3)::bigint)::bigint"
                " FROM commands_occurrence, jsonb_array_elements(tally) row"
                " WHERE fires_at >= %s AND detail <> 'whole' AND row ->> 2 = 'failed' GROUP BY 1, 2",
                [since],
            )
            return list(cursor.fetchall())

    def to_shorten(self) -> Self:
        """Firings that are over, of which all is kept and need not be for ever, the oldest first. The latest of a
        schedule that goes on need: they tell which devices miss again and again."""
        times = self.model.objects.filter(schedule=OuterRef("schedule"), local_time__gt="").values("local_time")
        latest = times.distinct().order_by("-local_time")[TIMES_KEPT - 1 : TIMES_KEPT]
        older = models.Q(local_time__lt=Subquery(latest))
        not_looked_at = models.Q(local_time="") | models.Q(schedule__state="ended")
        return self.filter(older | not_looked_at, detail="whole", tallied_at__isnull=False).order_by("expires_at", "id")

    def answers_before(self, moment: datetime) -> int:
        """How many devices those of them were for that had given up before a moment."""
        found = self.to_shorten().filter(expires_at__lt=moment).order_by().aggregate(n=Sum("audience"))
        return found["n"] or 0

    def next_to_shorten(self, before: datetime) -> "Occurrence | None":
        """The firing of which answers are to be deleted next, locked: one that was begun, or else the oldest."""
        begun = self.filter(detail="going").order_by("expires_at", "id")
        due = self.to_shorten().filter(expires_at__lt=before)
        for found in (begun, due):
            one = found.select_for_update(skip_locked=True, of=("self",)).first()
            if one is not None:
                return one
        return None

    def latest_of(self, schedule_id: int) -> "Occurrence | None":
        """The firing that was last."""
        return self.filter(schedule_id=schedule_id).order_by("-fires_at", "zone").first()

    def with_time_of(self, occurrence: "Occurrence") -> list[int]:
        """The firings of its schedule for the same time of the rule, in every zone; itself alone where it was run
        besides its times."""
        if not occurrence.local_time:
            return [occurrence.pk]
        same = self.filter(schedule_id=occurrence.schedule_id, local_time=occurrence.local_time)
        return list(same.values_list("pk", flat=True))

    def latest_times(self, schedule_id: int, most: int, *, over_by: datetime | None = None) -> list[str]:
        """The times of the rule at which it fired last, the latest first; of firings that had given up by a moment, if
        one is given."""
        rows = self.filter(schedule_id=schedule_id, local_time__gt="").order_by("-local_time")
        if over_by is not None:
            rows = rows.filter(expires_at__lte=over_by)
        return list(rows.values_list("local_time", flat=True).distinct()[:most])


class OutputQuerySet(models.QuerySet["Output"]):
    def too_old(self, before: datetime) -> Self:
        return self.filter(last_at__lt=before).order_by("last_at")

    def beyond(self, most: int) -> "models.QuerySet[Any, Any]":
        """Those with which a device has more than so many bytes, its newest counted first."""
        newest_first = Window(Sum("size"), partition_by=F("device"), order_by=[F("last_at").desc(), F("pk").desc()])
        found: models.QuerySet[Any, Any] = self.annotate(so_far=newest_first)
        return found.filter(so_far__gt=most)
