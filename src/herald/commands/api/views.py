"""Calls about scheduled commands."""

from collections.abc import Sequence
from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.commands import compose, overview, reach, services, watch
from herald.commands.api.deliveries import CommandDeliveryPage
from herald.commands.api.serializers import (
    NewScheduleBody,
    RanOnce,
    RunBody,
    ScheduleChangeBody,
    ScheduleChangePreview,
    ScheduleDetail,
    ScheduleDraftBody,
    SchedulePreview,
    ScheduleRow,
    SkipBody,
)
from herald.commands.models import (
    LOCAL_FORM,
    Detail,
    FreezeChoice,
    LateChoice,
    OverlapChoice,
    Schedule,
    ScheduleState,
    When,
)
from herald.commands.sentence import draft_parts
from herald.commands.templates import find_template
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import waits_of
from herald.groups.audience import named_devices, read_named
from herald.http.fields import SentencePart, valid
from herald.http.pages import PAGE, newest_first, page_of
from herald.people.models import Ability
from herald.people.permissions import WHOLE, person
from herald.time import clock
from herald_core.timing.firings import Firing

SchedulePage = page_of("SchedulePage", ScheduleRow, "schedules")


class ScheduleListView(APIView):
    """Scheduled commands, the newest first."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="schedules_list",
        parameters=[
            OpenApiParameter("state", str, enum=ScheduleState.values, description="all, if left out"),
            OpenApiParameter("q", str, description="each in the id, a group, the command or a person"),
            *PAGE,
        ],
        responses=SchedulePage,
    )
    def get(self, request: Request) -> Response:
        params = request.query_params
        found = Schedule.objects.listed().with_words(params.get("q", ""))
        if state := params.get("state"):
            found = found.filter(state=state)
        rows, count, following = newest_first(found, request)
        body = {"count": count, "schedules": overview.rows(rows, clock.now()), "next": following}
        return Response(SchedulePage(body).data)

    @extend_schema(operation_id="schedules_create", request=NewScheduleBody, responses={201: ScheduleDetail})
    def post(self, request: Request) -> Response:
        body = valid(NewScheduleBody(data=request.data))
        expected = body.pop("devices")
        schedule = compose.create_schedule(_draft(body), actor=person(request), now=clock.now(), expected=expected)
        return Response(_detail(schedule.pk), status=201)


class ScheduleView(APIView):
    """One scheduled command."""

    within_limits = WHOLE

    @extend_schema(operation_id="schedules_retrieve", responses=ScheduleDetail)
    def get(self, request: Request, schedule_id: int) -> Response:
        return Response(_detail(schedule_id))

    @extend_schema(operation_id="schedules_change", request=ScheduleChangeBody, responses=ScheduleDetail)
    def put(self, request: Request, schedule_id: int) -> Response:
        body = valid(ScheduleChangeBody(data=request.data))
        revision = body.pop("revision")
        compose.change_schedule(
            _find(schedule_id), _draft(body), revision=revision, actor=person(request), now=clock.now()
        )
        return Response(_detail(schedule_id))


class ScheduleSentenceAction(APIView):
    """The sentence of a command as it is composed, with a slot for everything that can be chosen; keeps nothing."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="schedules_sentence", request=ScheduleDraftBody, responses=SentencePart(many=True))
    def post(self, request: Request) -> Response:
        body = valid(ScheduleDraftBody(data=request.data))
        parts = draft_parts({**body, "template": find_template(body["template"])}, now=clock.now())
        return Response(SentencePart(parts, many=True).data)


class SchedulePreviewView(APIView):
    """When a command would fire in each zone, before it is saved."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="schedules_preview", request=ScheduleDraftBody, responses=SchedulePreview)
    def post(self, request: Request) -> Response:
        return Response(SchedulePreview(_preview(_draft(valid(ScheduleDraftBody(data=request.data))))).data)


class ScheduleChangePreviewView(APIView):
    """What a change of a schedule would do, before it is saved; what has fired already stays as it is."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="schedules_change_preview", request=ScheduleDraftBody, responses=ScheduleChangePreview)
    def post(self, request: Request, schedule_id: int) -> Response:
        schedule = _find(schedule_id)
        draft = _draft(valid(ScheduleDraftBody(data=request.data)))
        before, now = compose.draft_of(schedule), clock.now()
        body = {
            "preview": _preview(draft, apart=schedule.pk),
            "zones_before": _zones(compose.preview_firings(before, now=now)),
            "devices_before": reach.audience_of(before).able.count(),
            **compose.open_deliveries(schedule),
        }
        return Response(ScheduleChangePreview(body).data)


class _StateAction(APIView):
    state: ScheduleState

    def change(self, request: Request, schedule_id: int) -> Response:
        services.set_state(_find(schedule_id), self.state, actor=person(request), now=clock.now())
        return Response(_detail(schedule_id))


class SchedulePauseAction(_StateAction):
    """Fire no more for now."""

    within_limits = WHOLE
    needs = Ability.STOP

    state = ScheduleState.PAUSED

    @extend_schema(operation_id="schedules_pause", request=None, responses=ScheduleDetail)
    def post(self, request: Request, schedule_id: int) -> Response:
        return self.change(request, schedule_id)


class ScheduleResumeAction(_StateAction):
    """Fire again; what was missed is not caught up."""

    within_limits = WHOLE
    state = ScheduleState.ACTIVE

    @extend_schema(operation_id="schedules_resume", request=None, responses=ScheduleDetail)
    def post(self, request: Request, schedule_id: int) -> Response:
        return self.change(request, schedule_id)


class ScheduleApproveAction(APIView):
    """Agree to a destructive command, as somebody else than who proposed it."""

    within_limits = WHOLE
    needs = Ability.APPROVE

    @extend_schema(operation_id="schedules_approve", request=None, responses=ScheduleDetail)
    def post(self, request: Request, schedule_id: int) -> Response:
        services.approve(_find(schedule_id), actor=person(request), now=clock.now())
        return Response(_detail(schedule_id))


class ScheduleSkipAction(APIView):
    """Leave the next firing out."""

    within_limits = WHOLE

    @extend_schema(operation_id="schedules_skip", request=SkipBody, responses=ScheduleDetail)
    def post(self, request: Request, schedule_id: int) -> Response:
        local_time = valid(SkipBody(data=request.data))["local_time"]
        services.skip_next(_find(schedule_id), local_time=local_time, actor=person(request), now=clock.now())
        return Response(_detail(schedule_id))


class ScheduleEndAction(_StateAction):
    """End it for good."""

    within_limits = WHOLE
    needs = Ability.STOP

    state = ScheduleState.ENDED

    @extend_schema(operation_id="schedules_end", request=None, responses=ScheduleDetail)
    def post(self, request: Request, schedule_id: int) -> Response:
        return self.change(request, schedule_id)


class ScheduleRunAction(APIView):
    """Run once now, besides its times."""

    within_limits = WHOLE

    @extend_schema(operation_id="schedules_run", request=RunBody, responses=RanOnce)
    def post(self, request: Request, schedule_id: int) -> Response:
        expected = valid(RunBody(data=request.data))["devices"]
        devices = services.run_once(_find(schedule_id), actor=person(request), now=clock.now(), expected=expected)
        return Response(RanOnce({"devices": devices}).data)


class ScheduleDeliveriesView(APIView):
    """The deliveries of a schedule, the latest first."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="schedules_deliveries",
        parameters=[
            OpenApiParameter("occurrence", str, description="ids of firings, separated by commas; all if left out"),
            OpenApiParameter("answer", str, description="the key of an answer of these firings"),
            OpenApiParameter("phase", str, description="one or more phases, separated by commas"),
            OpenApiParameter("cursor", int),
            OpenApiParameter("limit", int),
        ],
        responses=CommandDeliveryPage,
    )
    def get(self, request: Request, schedule_id: int) -> Response:
        params = request.query_params
        schedule = _find(schedule_id)
        # half of a firing is none: one that is being shortened is not listed
        whole = Delivery.objects.of_schedule(schedule_id).filter(occurrence__detail=Detail.WHOLE)
        found = whole.with_filters(
            ring=None, phases=[p for p in params.get("phase", "").split(",") if p], error="", places={}, words=""
        )
        if params.get("occurrence") or params.get("answer"):
            occurrences = watch.read_occurrences(schedule, params.get("occurrence"))
            found = found.of_occurrences(occurrences)
            if answer := params.get("answer"):
                found = found.filter(device_id__any=watch.devices_with(schedule, occurrences, [answer]))
        rows, count, following = newest_first(found.listed(), request)
        body = {"count": count, "deliveries": rows, "next": following}
        context = {"waits": waits_of(rows, clock.now()), "outputs": watch.with_output([d.pk for d in rows])}
        return Response(CommandDeliveryPage(body, context=context).data)


def _find(schedule_id: int) -> Schedule:
    found: Schedule = get_object_or_404(Schedule.objects.listed(), pk=schedule_id)
    return found


def _detail(schedule_id: int) -> Any:
    schedule = _find(schedule_id)
    named = [d["name"] for d in named_devices(schedule)]
    return ScheduleDetail({**overview.rows([schedule], clock.now())[0], "include_devices": named}).data


def _draft(body: dict[str, Any]) -> compose.ScheduleDraft:
    return compose.ScheduleDraft(
        template=find_template(body.pop("template")),
        when=When(body.pop("when")),
        devices=read_named(body.pop("include_devices"), "/include_devices"),
        freezes=FreezeChoice(body.pop("freezes")),
        late=LateChoice(body.pop("late")),
        overlap=OverlapChoice(body.pop("overlap")),
        **body,
    )


def _preview(draft: compose.ScheduleDraft, apart: int | None = None) -> dict[str, Any]:
    now = clock.now()
    zones = compose.preview_firings(draft, now=now)
    return {
        "devices": sum(z.devices for z in zones),
        "unsupported_count": reach.audience_of(draft).unable.count(),
        "unable_rule": reach.unable_rule(draft),
        "harm": draft.template.harm,
        "frozen": reach.frozen_now(draft, now=now),
        "reached_now": reach.reached_now(draft, now=now),
        "conflicts": compose.conflicts_of(draft, now=now, apart=apart),
        "rule": compose.read_draft(draft, now=now).rule,
        "needs_second": compose.needs_second(draft),
        "zones": _zones(zones),
    }


def _zones(zones: Sequence[compose.ZoneFirings]) -> list[dict[str, Any]]:
    return [
        {
            "zone": z.zone,
            "devices": z.devices,
            "firings": [_firing(f) for f in z.firings],
            "shifted": _firing(z.shifted) if z.shifted else None,
        }
        for z in zones
    ]


def _firing(firing: Firing) -> dict[str, Any]:
    return {"at": firing.at, "local_time": firing.local.strftime(LOCAL_FORM), "shift": firing.shift.value}
