"""Calls about scheduled commands."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.commands import overview, reach, services
from herald.commands.api.serializers import (
    NewScheduleBody,
    RanOnce,
    RunBody,
    ScheduleDraftBody,
    SchedulePreview,
    ScheduleRow,
)
from herald.commands.models import HARM, CommandTemplate, FreezeChoice, Schedule, ScheduleState, When
from herald.commands.sentence import draft_parts
from herald.deliveries.api.serializers import DeliveryPage
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import waits_of
from herald.groups.audience import read_named
from herald.http.fields import SentencePart, read_number, valid
from herald.http.pages import PAGE, newest_first, page_of
from herald.people.models import Ability
from herald.people.permissions import person
from herald.time import clock

SchedulePage = page_of("SchedulePage", ScheduleRow, "schedules")


class ScheduleListView(APIView):
    """Scheduled commands, the newest first."""

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

    @extend_schema(operation_id="schedules_create", request=NewScheduleBody, responses={201: ScheduleRow})
    def post(self, request: Request) -> Response:
        body = valid(NewScheduleBody(data=request.data))
        expected = body.pop("devices")
        schedule = services.create_schedule(_draft(body), actor=person(request), now=clock.now(), expected=expected)
        return Response(_detail(schedule.pk), status=201)


class ScheduleView(APIView):
    """One scheduled command."""

    @extend_schema(operation_id="schedules_retrieve", responses=ScheduleRow)
    def get(self, request: Request, schedule_id: int) -> Response:
        return Response(_detail(schedule_id))


class ScheduleSentenceAction(APIView):
    """The sentence of a command as it is composed, with a slot for everything that can be chosen; keeps nothing."""

    changes_nothing = True

    @extend_schema(operation_id="schedules_sentence", request=ScheduleDraftBody, responses=SentencePart(many=True))
    def post(self, request: Request) -> Response:
        parts = draft_parts(valid(ScheduleDraftBody(data=request.data)))
        return Response(SentencePart(parts, many=True).data)


class SchedulePreviewView(APIView):
    """When a command would fire in each zone, before it is saved."""

    changes_nothing = True

    @extend_schema(operation_id="schedules_preview", request=ScheduleDraftBody, responses=SchedulePreview)
    def post(self, request: Request) -> Response:
        draft = _draft(valid(ScheduleDraftBody(data=request.data)))
        zones = services.preview_firings(draft, now=clock.now())
        body = {
            "devices": sum(z.devices for z in zones),
            "unsupported_count": reach.audience_of(draft).unable.count(),
            "unable_rule": reach.unable_rule(draft),
            "harm": HARM[draft.template].value,
            "frozen": reach.frozen_now(draft, now=clock.now()),
            "reached_now": reach.reached_now(draft, now=clock.now()),
            "conflicts": services.conflicts_of(draft, now=clock.now()),
            "zones": [
                {
                    "zone": z.zone,
                    "devices": z.devices,
                    "firings": [{"at": at, "shift": shift} for at, shift in z.firings],
                }
                for z in zones
            ],
        }
        return Response(SchedulePreview(body).data)


class _StateAction(APIView):
    state: ScheduleState

    def change(self, request: Request, schedule_id: int) -> Response:
        services.set_state(_find(schedule_id), self.state, actor=person(request), now=clock.now())
        return Response(_detail(schedule_id))


class SchedulePauseAction(_StateAction):
    """Fire no more for now."""

    needs = Ability.STOP

    state = ScheduleState.PAUSED

    @extend_schema(operation_id="schedules_pause", request=None, responses=ScheduleRow)
    def post(self, request: Request, schedule_id: int) -> Response:
        return self.change(request, schedule_id)


class ScheduleResumeAction(_StateAction):
    """Fire again; what was missed is not caught up."""

    state = ScheduleState.ACTIVE

    @extend_schema(operation_id="schedules_resume", request=None, responses=ScheduleRow)
    def post(self, request: Request, schedule_id: int) -> Response:
        return self.change(request, schedule_id)


class ScheduleEndAction(_StateAction):
    """End it for good."""

    needs = Ability.STOP

    state = ScheduleState.ENDED

    @extend_schema(operation_id="schedules_end", request=None, responses=ScheduleRow)
    def post(self, request: Request, schedule_id: int) -> Response:
        return self.change(request, schedule_id)


class ScheduleRunAction(APIView):
    """Run once now, besides its times."""

    @extend_schema(operation_id="schedules_run", request=RunBody, responses=RanOnce)
    def post(self, request: Request, schedule_id: int) -> Response:
        expected = valid(RunBody(data=request.data))["devices"]
        devices = services.run_once(_find(schedule_id), actor=person(request), now=clock.now(), expected=expected)
        return Response(RanOnce({"devices": devices}).data)


class ScheduleDeliveriesView(APIView):
    """The deliveries of a schedule, the latest first."""

    @extend_schema(
        operation_id="schedules_deliveries",
        parameters=[
            OpenApiParameter("occurrence", int),
            OpenApiParameter("phase", str, description="one or more phases, separated by commas"),
            OpenApiParameter("cursor", int),
            OpenApiParameter("limit", int),
        ],
        responses=DeliveryPage,
    )
    def get(self, request: Request, schedule_id: int) -> Response:
        params = request.query_params
        found = Delivery.objects.of_schedule(schedule_id).with_filters(
            ring=None, phases=[p for p in params.get("phase", "").split(",") if p], error="", places={}, words=""
        )
        occurrence = read_number(params.get("occurrence"))
        if occurrence is not None:
            found = found.filter(occurrence_id=occurrence)
        rows, count, following = newest_first(found.listed(), request)
        body = {"count": count, "deliveries": rows, "next": following}
        return Response(DeliveryPage(body, context={"waits": waits_of(rows, clock.now())}).data)


def _find(schedule_id: int) -> Schedule:
    found: Schedule = get_object_or_404(Schedule.objects.listed(), pk=schedule_id)
    return found


def _detail(schedule_id: int) -> Any:
    return ScheduleRow(overview.rows([_find(schedule_id)], clock.now())[0]).data


def _draft(body: dict[str, Any]) -> services.ScheduleDraft:
    return services.ScheduleDraft(
        template=CommandTemplate(body.pop("template")),
        when=When(body.pop("when")),
        devices=read_named(body.pop("include_devices"), "/include_devices"),
        freezes=FreezeChoice(body.pop("freezes")),
        **body,
    )
