"""The calendar: all that will happen to the fleet and all that did, in rows."""

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

import msgspec
from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.views import APIView

from herald.agenda import load
from herald.agenda.api.serializers import CalendarAnswer
from herald.agenda.firings import Planned, RowFirings, past, planned, rows_of_planned
from herald.agenda.freezes import FreezePlan, freezes_within
from herald.agenda.keeping import kept_rows
from herald.agenda.rollouts import RingSpan, RolloutPlan, rollouts_within
from herald.agenda.rows import RowKind, Rows
from herald.commands.models import Schedule
from herald.commands.sentence import schedule_sentence
from herald.http.errors import Invalid
from herald.http.fields import read_moment
from herald.people.permissions import WHOLE
from herald.rollouts.watch.overview import whom
from herald.rollouts.watch.sentence import short_words
from herald.time import clock

#: a calendar spans at most so much
LONGEST = timedelta(days=100)
WEEK = timedelta(days=7)


class CalendarView(APIView):
    """Windows, rings, firings and freezes of some days, past and planned, and what they mean for the fleet."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="calendar",
        responses=CalendarAnswer,
        parameters=[
            OpenApiParameter("from", description="from when on; now where it is missing"),
            OpenApiParameter("until", description="up to when; a week later where it is missing"),
            OpenApiParameter("rows", enum=[k.value for k in RowKind], description="what each row is"),
        ],
    )
    def get(self, request: Request) -> HttpResponse:
        now = clock.now()
        start = read_moment(request.query_params.get("from"), "from") if "from" in request.query_params else now
        end = read_moment(request.query_params.get("until"), "until") if "until" in request.query_params else None
        end = end or start + WEEK
        if not timedelta(0) < end - start <= LONGEST:
            raise Invalid("/until", f"A calendar ends after it begins, and at most {LONGEST.days} days later.")
        kind = request.query_params.get("rows", RowKind.ZONE)
        if kind not in list(RowKind):
            raise Invalid("/rows", f"Rows are one of {', '.join(RowKind)}.")
        # ten thousand marks are written in a tenth of the time that the renderer of REST framework takes
        body = msgspec.json.encode(_answer(RowKind(kind), start=start, end=end, now=now))
        return HttpResponse(body, content_type="application/json")


def _answer(kind: RowKind, *, start: datetime, end: datetime, now: datetime) -> dict[str, Any]:
    rows = kept_rows(kind)
    ahead, behind = max(start, now), min(end, now)
    rollouts = rollouts_within(rows, start=start, end=end, now=now)
    active = list(Schedule.objects.planned())
    plans = planned(active, rows, start=ahead, end=end)
    was = past(rows, {s.pk: s for s in active}, start=start, end=behind)
    bars = load.Bars(ahead, end)
    return {
        "now": now,
        "counted_at": rows.counted_at,
        "begins_at": start,
        "ends_at": end,
        "rows": rows.rows,
        "rollouts": [_rollout(r) for r in rollouts],
        "schedules": _schedules(plans, was, rows),
        "freezes": [_freeze(f) for f in freezes_within(rows, start=start, end=end)],
        "bar_hours": bars.length // timedelta(hours=1),
        "load": load.load_ahead(rollouts, plans, bars),
        "sites": load.narrow_sites(rollouts, bars, rows.known),
    }


def _rollout(plan: RolloutPlan) -> dict[str, Any]:
    rollout = plan.rollout
    return {
        "id": rollout.pk,
        "name": rollout.name,
        "target": short_words(rollout),
        "audience": whom(rollout),
        "state": rollout.state,
        "window_start": rollout.window_start,
        "window_end": rollout.window_end,
        "left": sum(plan.left.values()),
        "forecast_at": plan.forecast.at if plan.forecast else None,
        "windows": [
            {"row": row, "spans": [{"starts_at": s.starts_at, "ends_at": s.ends_at} for s in spans]}
            for row, spans in plan.windows.items()
        ],
        "rings": [_ring(r) for r in plan.rings],
    }


def _ring(span: RingSpan) -> dict[str, Any]:
    return {
        "position": span.ring.position,
        "name": span.ring.name,
        "soak_minutes": span.ring.soak_minutes,
        "needs_approval": span.ring.needs_approval and span.ring.approved_at is None,
        "is_open": span.ring.opened_at is not None,
        "is_through": span.ring.gate_met_at is not None,
        "opens_at": span.opens_at,
        "opens_high": span.opens_high,
        "through_low": span.through_low,
        "through_at": span.through_at,
        "through_high": span.through_high,
        "devices": _counts(span.devices),
        "left": _counts(span.left),
    }


def _counts(devices: Mapping[str, int]) -> list[dict[str, Any]]:
    return [{"row": row, "devices": n} for row, n in devices.items() if n]


def _schedules(
    plans: Sequence[Planned], behind: Sequence[tuple[Schedule, list[RowFirings]]], rows: Rows
) -> list[dict[str, Any]]:
    """Schedules with what fired and what will, by their ids."""
    was = {schedule.pk: (schedule, firings) for schedule, firings in behind}
    will = {p.schedule.pk: (p.schedule, rows_of_planned(p, rows)) for p in plans}
    found = []
    for pk in sorted({*was, *will}):
        schedule = (will.get(pk) or was[pk])[0]
        past_rows, planned_rows = was.get(pk, (None, []))[1], will.get(pk, (None, []))[1]
        if past_rows or planned_rows:
            found.append(
                {
                    "id": pk,
                    "name": schedule.name,
                    "command": schedule.template.name,
                    "harm": schedule.template.harm,
                    "sentence": schedule_sentence(schedule),
                    "clock": schedule.clock,
                    "time_of_day": schedule.time_of_day,
                    "revision": schedule.revision,
                    "past": past_rows,
                    "planned": planned_rows,
                }
            )
    return found


def _freeze(plan: FreezePlan) -> dict[str, Any]:
    freeze = plan.time.freeze
    return {
        "id": freeze.pk,
        "name": freeze.name,
        "why": freeze.why,
        "starts_at": plan.time.starts_at,
        "ends_at": plan.time.ends_at,
        "repeats_yearly": freeze.repeats_yearly,
        "everywhere": freeze.everywhere,
        "source": freeze.source.name if freeze.source else "",
        "devices": _counts(plan.devices),
    }
