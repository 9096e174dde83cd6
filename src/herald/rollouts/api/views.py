"""Calls about rollouts: writing down, preflight, launch."""

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.access.permissions import person
from herald.api.errors import Invalid
from herald.api.fields import read_limit, valid
from herald.clock.source import clock
from herald.deliveries.api.serializers import ClashRow
from herald.fleet.models import Device
from herald.fleet.services import device_ids
from herald.groups.audience import read_named
from herald.rollouts import drafting, launching, overview
from herald.rollouts.api.lookup import detail_of, find_rollout
from herald.rollouts.api.serializers import (
    LaunchBody,
    OutcomeDevice,
    PreflightView,
    RolloutDetail,
    RolloutDraftBody,
    RolloutRow,
)
from herald.rollouts.api.stepping_serializers import DevicesBody, DevicesReasonBody, Touched
from herald.rollouts.clashes import clashes
from herald.rollouts.models import Rollout
from herald_core.changes import Choice
from herald_core.rings.assignment import RingKind

LISTED = 100
MOST_RINGS = 50
MOST_CHANGES = 200


class RolloutListView(APIView):
    """Rollouts, the newest first."""

    @extend_schema(operation_id="rollouts_list", responses=RolloutRow(many=True))
    def get(self, request: Request) -> Response:
        found = overview.rows(list(Rollout.objects.listed()[:LISTED]), clock.now())
        return Response(RolloutRow(found, many=True).data)

    @extend_schema(operation_id="rollouts_create", request=RolloutDraftBody, responses={201: RolloutDetail})
    def post(self, request: Request) -> Response:
        rollout = drafting.save_draft(_draft(request), actor=person(request), now=clock.now())
        return Response(detail_of(rollout.pk), status=201)


class RolloutView(APIView):
    """One rollout."""

    @extend_schema(operation_id="rollouts_retrieve", responses=RolloutDetail)
    def get(self, request: Request, rollout_id: int) -> Response:
        return Response(detail_of(rollout_id))

    @extend_schema(operation_id="rollouts_change", request=RolloutDraftBody, responses=RolloutDetail)
    def put(self, request: Request, rollout_id: int) -> Response:
        drafting.save_draft(_draft(request), actor=person(request), now=clock.now(), rollout=find_rollout(rollout_id))
        return Response(detail_of(rollout_id))

    @extend_schema(operation_id="rollouts_delete", responses={204: None})
    def delete(self, request: Request, rollout_id: int) -> Response:
        drafting.delete_draft(find_rollout(rollout_id), actor=person(request), now=clock.now())
        return Response(status=204)


class PreflightAction(APIView):
    """Who would take part, and who not and why; changes nothing."""

    changes_nothing = True

    @extend_schema(operation_id="rollouts_preflight", request=None, responses=PreflightView)
    def post(self, request: Request, rollout_id: int) -> Response:
        rollout = find_rollout(rollout_id)
        plan = drafting.preflight(rollout, now=clock.now())
        return Response(PreflightView(overview.preflight_view(rollout, plan)).data)


class ClashesView(APIView):
    """What else wants the devices of a draft: other rollouts, freezes, schedules, with what will happen."""

    @extend_schema(operation_id="rollouts_clashes", responses=ClashRow(many=True))
    def get(self, request: Request, rollout_id: int) -> Response:
        return Response(ClashRow(clashes(find_rollout(rollout_id), now=clock.now()), many=True).data)


class PreflightDevicesView(APIView):
    """The devices behind one count of a preflight."""

    @extend_schema(
        operation_id="rollouts_preflight_devices",
        parameters=[
            OpenApiParameter("outcome", str, required=True, description="an outcome, or a function that is lacking"),
            OpenApiParameter("limit", int),
        ],
        responses=OutcomeDevice(many=True),
    )
    def get(self, request: Request, rollout_id: int) -> Response:
        plan = drafting.preflight(find_rollout(rollout_id), now=clock.now())
        ids = plan.behind(request.query_params.get("outcome", ""))[: read_limit(request.query_params.get("limit"))]
        devices = Device.objects.by_ids(ids).with_names().order_by("name")
        return Response(OutcomeDevice(devices, many=True).data)


class LaunchAction(APIView):
    """Launch. The number of devices must be the one that preflight gives."""

    @extend_schema(operation_id="rollouts_launch", request=LaunchBody, responses={202: RolloutDetail})
    def post(self, request: Request, rollout_id: int) -> Response:
        body = valid(LaunchBody(data=request.data))
        launching.request_launch(
            find_rollout(rollout_id),
            expected=body["devices"],
            despite=body["reason"],
            actor=person(request),
            now=clock.now(),
        )
        return Response(detail_of(rollout_id), status=202)


class TakeOutAction(APIView):
    """Take devices out of a draft, with a reason."""

    @extend_schema(operation_id="rollouts_take_out", request=DevicesReasonBody, responses=Touched)
    def post(self, request: Request, rollout_id: int) -> Response:
        asked = valid(DevicesReasonBody(data=request.data))
        devices = device_ids(asked["devices"], "/devices")
        out = drafting.take_out(
            find_rollout(rollout_id), devices, asked["reason"], actor=person(request), now=clock.now()
        )
        return Response(Touched({"devices": out}).data)


class TakeBackInAction(APIView):
    """Let devices that were taken out of a draft take part again."""

    @extend_schema(operation_id="rollouts_take_back_in", request=DevicesBody, responses=Touched)
    def post(self, request: Request, rollout_id: int) -> Response:
        devices = device_ids(valid(DevicesBody(data=request.data))["devices"], "/devices")
        out = drafting.take_back_in(find_rollout(rollout_id), devices, actor=person(request), now=clock.now())
        return Response(Touched({"devices": out}).data)


def read_rings(rings: list[dict[str, Any]]) -> list[drafting.RingDraft]:
    """Rings of a request's body as they are written down."""
    if len(rings) > MOST_RINGS:
        raise Invalid("/rings", f"A rollout has at most {MOST_RINGS} rings.")
    return [
        drafting.RingDraft(
            **{k: v for k, v in ring.items() if k not in ("group_id", "kind")},
            kind=RingKind(ring["kind"]),
            group=ring["group_id"],
        )
        for ring in rings
    ]


def _draft(request: Request) -> drafting.RolloutDraft:
    body = valid(RolloutDraftBody(data=request.data))
    changes = body.pop("changes")
    if len(changes) > MOST_CHANGES:
        raise Invalid("/changes", f"A change table has at most {MOST_CHANGES} rows.")
    return drafting.RolloutDraft(
        changes=[_change(c) for c in changes],
        rings=read_rings(body.pop("rings")),
        plan_version=body.pop("plan_version_id"),
        devices=read_named(body.pop("include_devices"), "/include_devices"),
        **body,
    )


def _change(body: dict[str, Any]) -> drafting.ChangeDraft:
    return drafting.ChangeDraft(
        choice=Choice(body["choice"]),
        model=body["model_id"],
        uplink=body["uplink"].strip(),
        from_version=body["from_version"].strip(),
        image=body["image_id"],
        within=body["within"].strip(),
    )
