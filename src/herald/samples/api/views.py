"""Calls about the fleet over time."""

from datetime import timedelta
from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.fields import read_limit
from herald.samples.compliance import expected, on_the_way, over_time, standing
from herald.time import clock

MOST_DAYS = 730


class StandingView(serializers.Serializer[Any]):
    """How much of the fleet runs an approved version, and the newest one for its model. Of the rest: how many devices
    a running rollout reaches, and when the last of them is expected (null where no end is in sight, or none is on its
    way)."""

    devices = serializers.IntegerField()
    approved = serializers.IntegerField()
    newest = serializers.IntegerField()
    on_the_way = serializers.IntegerField()
    rollouts = serializers.IntegerField()
    expected_at = serializers.DateTimeField(allow_null=True)


class FleetPoint(serializers.Serializer[Any]):
    at = serializers.DateTimeField()
    devices = serializers.IntegerField()
    approved = serializers.IntegerField()
    on_time = serializers.IntegerField()


class ExpectedPoint(serializers.Serializer[Any]):
    """So many devices more are expected on an approved version by a moment."""

    at = serializers.DateTimeField()
    approved = serializers.IntegerField()


class VersionBand(serializers.Serializer[Any]):
    """A version of a family: how many devices ran it, at each of the points."""

    version = serializers.CharField()
    approved = serializers.BooleanField()
    devices = serializers.ListField(child=serializers.IntegerField())


class FamilyOverTime(serializers.Serializer[Any]):
    """A family over time; `target` is its newest approved version, empty where there is none."""

    family = serializers.CharField()
    target = serializers.CharField()
    devices = serializers.IntegerField()
    approved = serializers.IntegerField()
    bands = VersionBand(many=True)


class FleetOverTime(serializers.Serializer[Any]):
    """The fleet over time, to now, and what is expected from now on."""

    standing = StandingView()
    points = FleetPoint(many=True)
    expected = ExpectedPoint(many=True)
    families = FamilyOverTime(many=True)


class StandingApiView(APIView):
    """How much of the fleet is on an approved version, and when the rest will be."""

    @extend_schema(operation_id="fleet_standing", responses=StandingView)
    def get(self, request: Request) -> Response:
        return Response(StandingView(standing(on_the_way())).data)


class FleetOverTimeView(APIView):
    """Versions by family, the share on approved versions and the devices on time, from samples."""

    @extend_schema(operation_id="fleet_over_time", parameters=[OpenApiParameter("days", int)], responses=FleetOverTime)
    def get(self, request: Request) -> Response:
        now = clock.now()
        days = read_limit(request.query_params.get("days"), default=30, most=MOST_DAYS)
        points, families = over_time(now - timedelta(days=days), now)
        ways = on_the_way()
        stands = standing(ways)
        ahead = expected(now, stands, ways)
        body = {"standing": stands, "points": points, "expected": ahead, "families": families}
        return Response(FleetOverTime(body).data)
