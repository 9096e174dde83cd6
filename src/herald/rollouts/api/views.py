"""Calls about rollouts."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.api.errors import Invalid
from herald.api.fields import read_limit, valid
from herald.clock.source import clock
from herald.deliveries.api.serializers import DeliveryPage, TimelineEntry
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.deliveries.timeline import delivery_entry
from herald.deliveries.waiting import Situation
from herald.fleet.models import Device
from herald.record.models import RecordEntry
from herald.rollouts import overview, services
from herald.rollouts.api.serializers import (
    Effect,
    LaunchBody,
    OutcomeDevice,
    PreflightView,
    ProgressPoint,
    RingMarks,
    RolloutDetail,
    RolloutDraftBody,
    RolloutRow,
)
from herald.rollouts.models import Rollout
from herald_core.rings.assignment import RingKind

LISTED = 100


class RolloutListView(APIView):
    """Rollouts, the newest first."""

    @extend_schema(operation_id="rollouts_list", responses=RolloutRow(many=True))
    def get(self, request: Request) -> Response:
        found = overview.rows(Rollout.objects.listed()[:LISTED], clock.now())
        return Response(RolloutRow(found, many=True).data)

    @extend_schema(operation_id="rollouts_create", request=RolloutDraftBody, responses={201: RolloutDetail})
    def post(self, request: Request) -> Response:
        rollout = services.save_draft(_draft(request), actor=request.user, now=clock.now())
        return Response(_detail(rollout.pk), status=201)


class RolloutView(APIView):
    """One rollout."""

    @extend_schema(operation_id="rollouts_retrieve", responses=RolloutDetail)
    def get(self, request: Request, rollout_id: int) -> Response:
        return Response(_detail(rollout_id))

    @extend_schema(operation_id="rollouts_change", request=RolloutDraftBody, responses=RolloutDetail)
    def put(self, request: Request, rollout_id: int) -> Response:
        services.save_draft(_draft(request), actor=request.user, now=clock.now(), rollout=find_rollout(rollout_id))
        return Response(_detail(rollout_id))

    @extend_schema(operation_id="rollouts_delete", responses={204: None})
    def delete(self, request: Request, rollout_id: int) -> Response:
        services.delete_draft(find_rollout(rollout_id))
        return Response(status=204)


class PreflightAction(APIView):
    """Who would take part, and who not and why; changes nothing."""

    changes_nothing = True

    @extend_schema(operation_id="rollouts_preflight", request=None, responses=PreflightView)
    def post(self, request: Request, rollout_id: int) -> Response:
        rollout = find_rollout(rollout_id)
        plan = services.preflight(rollout, now=clock.now())
        return Response(PreflightView(overview.preflight_view(rollout, plan)).data)


class PreflightDevicesView(APIView):
    """The devices behind one count of a preflight."""

    @extend_schema(
        operation_id="rollouts_preflight_devices",
        parameters=[OpenApiParameter("outcome", str, required=True), OpenApiParameter("limit", int)],
        responses=OutcomeDevice(many=True),
    )
    def get(self, request: Request, rollout_id: int) -> Response:
        plan = services.preflight(find_rollout(rollout_id), now=clock.now())
        wanted = request.query_params.get("outcome", "")
        ids = [d.id for d in plan.devices if d.outcome.value == wanted][: read_limit(request.query_params.get("limit"))]
        devices = Device.objects.by_ids(ids).with_names().order_by("name")
        return Response(OutcomeDevice(devices, many=True).data)


class LaunchAction(APIView):
    """Launch. The number of devices must be the one that preflight gives."""

    @extend_schema(operation_id="rollouts_launch", request=LaunchBody, responses={202: RolloutDetail})
    def post(self, request: Request, rollout_id: int) -> Response:
        expected = valid(LaunchBody(data=request.data))["devices"]
        services.request_launch(find_rollout(rollout_id), expected=expected, actor=request.user, now=clock.now())
        return Response(_detail(rollout_id), status=202)


class PauseAction(APIView):
    """Offer nothing new for now."""

    @extend_schema(operation_id="rollouts_pause", request=None, responses=Effect)
    def post(self, request: Request, rollout_id: int) -> Response:
        finishing = services.pause(find_rollout(rollout_id), actor=request.user, now=clock.now())
        return _effect(rollout_id, 0, finishing)


class ResumeAction(APIView):
    """Go on after a pause or a halt."""

    @extend_schema(operation_id="rollouts_resume", request=None, responses=Effect)
    def post(self, request: Request, rollout_id: int) -> Response:
        services.resume(find_rollout(rollout_id), actor=request.user, now=clock.now())
        return _effect(rollout_id, 0, Delivery.objects.in_hand_of_rollout(rollout_id))


class StopAction(APIView):
    """End it for good."""

    @extend_schema(operation_id="rollouts_stop", request=None, responses=Effect)
    def post(self, request: Request, rollout_id: int) -> Response:
        withdrawn, finishing = services.stop(find_rollout(rollout_id), actor=request.user, now=clock.now())
        return _effect(rollout_id, withdrawn, finishing)


class OpenGateAction(APIView):
    """Open the next ring although its gate is not met."""

    @extend_schema(operation_id="rollouts_open_gate", request=None, responses=Effect)
    def post(self, request: Request, rollout_id: int) -> Response:
        services.open_gate(find_rollout(rollout_id), actor=request.user, now=clock.now())
        return _effect(rollout_id, 0, Delivery.objects.in_hand_of_rollout(rollout_id))


class RolloutDeliveriesView(APIView):
    """The deliveries of a rollout, by the id of the delivery."""

    @extend_schema(
        operation_id="rollouts_deliveries",
        parameters=[
            OpenApiParameter("ring", int, description="position of a ring"),
            OpenApiParameter("phase", str, description="one or more phases, separated by commas"),
            OpenApiParameter("error", str, description="an error word"),
            OpenApiParameter("words", str, description="part of a device's name or uid"),
            OpenApiParameter("cursor", int, description="`next` of the page before"),
            OpenApiParameter("limit", int, description="1 to 1000, 100 if left out"),
        ],
        responses=DeliveryPage,
    )
    def get(self, request: Request, rollout_id: int) -> Response:
        rollout, params = find_rollout(rollout_id), request.query_params
        position = params.get("ring", "")
        ring = rollout.rings.filter(position=int(position)).first() if position.isdigit() else None
        found = Delivery.objects.of_rollout(rollout.pk).with_filters(
            ring=ring.pk if ring else None,
            phases=[p for p in params.get("phase", "").split(",") if p],
            error=params.get("error", ""),
            words=params.get("words", ""),
        )
        limit, cursor = read_limit(params.get("limit")), params.get("cursor", "")
        page = found.filter(id__gt=int(cursor)) if cursor.isdigit() else found
        rows: Any = list(page.listed().select_related("rollout__image").order_by("id")[: limit + 1])
        situation = _situation(rollout, [d.device_id for d in rows])
        body = {
            "count": found.count(),
            "deliveries": rows[:limit],
            "next": rows[limit - 1].pk if len(rows) > limit else None,
        }
        return Response(DeliveryPage(body, context={"situation": situation}).data)


class RolloutMarksView(APIView):
    """One mark a device, for rings small enough to be drawn so."""

    @extend_schema(operation_id="rollouts_marks", responses=RingMarks(many=True))
    def get(self, request: Request, rollout_id: int) -> Response:
        return Response(RingMarks(overview.marks(find_rollout(rollout_id)), many=True).data)


class RolloutProgressView(APIView):
    """How many were confirmed over time."""

    @extend_schema(operation_id="rollouts_progress", responses=ProgressPoint(many=True))
    def get(self, request: Request, rollout_id: int) -> Response:
        return Response(ProgressPoint(overview.progress(find_rollout(rollout_id)), many=True).data)


class RolloutTimelineView(APIView):
    """The latest that happened in a rollout: what people and the clock did, and what devices reported."""

    @extend_schema(operation_id="rollouts_timeline", responses=TimelineEntry(many=True))
    def get(self, request: Request, rollout_id: int) -> Response:
        events = DeliveryEvent.objects.of_rollout(rollout_id).select_related(
            "delivery__image", "delivery__occurrence__schedule"
        )
        entries = [delivery_entry(e, e.delivery.device.name) for e in events[:40]]
        acts = RecordEntry.objects.about("rollout", rollout_id).latest_first()[:40]
        entries += [
            {
                "at": a.at,
                "text": a.sentence,
                "detail": str(a.actor) if a.actor else "by the clock",
                "to_phase": "",
                "device": "",
                "rollout": rollout_id,
                "schedule": None,
            }
            for a in acts
        ]
        latest = sorted(entries, key=lambda e: e["at"], reverse=True)
        return Response(TimelineEntry(latest, many=True).data)


def find_rollout(rollout_id: int) -> Rollout:
    """The rollout with what its views show; 404 where there is none."""
    return get_object_or_404(Rollout.objects.listed(), pk=rollout_id)


def _detail(rollout_id: int) -> Any:
    return RolloutDetail(overview.detail(find_rollout(rollout_id), clock.now())).data


def _effect(rollout_id: int, withdrawn: int, finishing: int) -> Response:
    state = find_rollout(rollout_id).state
    return Response(Effect({"state": state, "withdrawn": withdrawn, "finishing": finishing}).data)


def _situation(rollout: Rollout, device_ids: list[int]) -> Situation:
    others = Delivery.objects.in_hand().filter(device_id__any=device_ids).exclude(rollout=rollout)
    return Situation(
        now=clock.now(),
        in_hand=Delivery.objects.in_hand_of_rollout(rollout.pk),
        busy_devices=frozenset(others.values_list("device_id", flat=True)),
    )


def _draft(request: Request) -> services.RolloutDraft:
    body = valid(RolloutDraftBody(data=request.data))
    rings = body.pop("rings")
    if len(rings) > 50:
        raise Invalid("/rings", "A rollout has at most 50 rings.")
    return services.RolloutDraft(
        image=body.pop("image_id"),
        rings=[services.RingDraft(**_ring(r)) for r in rings],
        **body,
    )


def _ring(body: dict[str, Any]) -> dict[str, Any]:
    return {
        **{k: v for k, v in body.items() if k != "group_id"},
        "kind": RingKind(body["kind"]),
        "group": body["group_id"],
    }
