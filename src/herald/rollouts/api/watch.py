"""Calls about a rollout that is watched: its deliveries, marks, progress and timeline."""

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.deliveries.api.serializers import DeliveryPage, TimelineEntry
from herald.deliveries.breakdown_fields import PLACES
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.deliveries.timeline import delivery_entry
from herald.deliveries.waiting import waits_of
from herald.http.fields import read_limit, read_number
from herald.people.permissions import WHOLE
from herald.record.models import RecordEntry
from herald.rollouts.api.serializers import ProgressPoint, RingDevices
from herald.rollouts.api.shared import find_rollout
from herald.rollouts.late_joiners import late_joiners
from herald.rollouts.watch import overview, steps
from herald.time import clock

#: `last_error` is asked for as `error`
PLACES_ASKED = [f for f in PLACES if f != "last_error"]


class RolloutDeliveriesView(APIView):
    """The deliveries of a rollout: those that failed first, then by id."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="rollouts_deliveries",
        parameters=[
            OpenApiParameter("ring", int, description="position of a ring"),
            OpenApiParameter("phase", str, description="one or more phases, separated by commas"),
            OpenApiParameter("error", str, description="an error word"),
            *(OpenApiParameter(f, str, description="a value of this field; empty for none") for f in PLACES_ASKED),
            OpenApiParameter("q", str, description="part of a device's name or uid"),
            OpenApiParameter("cursor", int, description="`next` of the page before"),
            OpenApiParameter("limit", int, description="1 to 1000, 100 if left out"),
        ],
        responses=DeliveryPage,
    )
    def get(self, request: Request, rollout_id: int) -> Response:
        rollout, params = find_rollout(rollout_id), request.query_params
        position = read_number(params.get("ring"))
        ring = None if position is None else rollout.rings.filter(position=min(position, 32_767)).first()
        found = Delivery.objects.of_rollout(rollout.pk).with_filters(
            ring=ring.pk if ring else None,
            phases=[p for p in params.get("phase", "").split(",") if p],
            error=params.get("error", ""),
            words=params.get("q", ""),
            places={f: params[f] for f in PLACES_ASKED if f in params},
        )
        limit, cursor = read_limit(params.get("limit")), read_number(params.get("cursor"))
        rows, following = found.failed_first(limit, cursor)
        body = {"count": found.count(), "deliveries": rows, "next": following}
        return Response(DeliveryPage(body, context={"waits": waits_of(rows, clock.now())}).data)


class LateJoinerRow(serializers.Serializer[Any]):
    """A device that joined the audience after the launch. `waits` for a person, as it is beyond the limit of a day."""

    device_id = serializers.IntegerField()
    device = serializers.CharField()
    joined_at = serializers.DateTimeField()
    group = serializers.CharField()
    cause = serializers.CharField()
    waits = serializers.BooleanField()


class RolloutLateJoinersView(APIView):
    """Who joined the audience of a rollout since its launch, and why; the latest first."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="rollouts_late_joiners",
        parameters=[OpenApiParameter("limit", int, description="1 to 1000, 100 if left out")],
        responses=LateJoinerRow(many=True),
    )
    def get(self, request: Request, rollout_id: int) -> Response:
        limit = read_limit(request.query_params.get("limit"))
        return Response(LateJoinerRow(late_joiners(find_rollout(rollout_id), most=limit), many=True).data)


class RolloutRingDevicesView(APIView):
    """One mark a device, for rings small enough to be drawn so."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_ring_devices", responses=RingDevices(many=True))
    def get(self, request: Request, rollout_id: int) -> Response:
        return Response(RingDevices(overview.marks(find_rollout(rollout_id)), many=True).data)


class RolloutProgressView(APIView):
    """How many were confirmed over time."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_progress", responses=ProgressPoint(many=True))
    def get(self, request: Request, rollout_id: int) -> Response:
        return Response(ProgressPoint(steps.progress(find_rollout(rollout_id)), many=True).data)


class RolloutTimelineView(APIView):
    """The latest that happened in a rollout: what people and the system did, and what devices reported."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_timeline", responses=TimelineEntry(many=True))
    def get(self, request: Request, rollout_id: int) -> Response:
        rollout = find_rollout(rollout_id)
        events = DeliveryEvent.objects.of_rollout(rollout.pk).select_related(
            "delivery__image", "delivery__occurrence__schedule", "delivery__rollout"
        )
        entries = [delivery_entry(e, e.delivery.device.name) for e in events[:40]]
        acts = RecordEntry.objects.about("rollout", rollout_id).latest_first()[:40]
        entries += [
            {
                "at": a.at,
                "text": a.sentence,
                "detail": str(a.actor) if a.actor else "by the system",
                "to_phase": "",
                "device": "",
                "rollout": rollout_id,
                "schedule": None,
            }
            for a in acts
        ]
        latest = sorted(entries, key=lambda e: e["at"], reverse=True)
        return Response(TimelineEntry(latest, many=True).data)
