"""Calls about the firmware of the fleet: over time, and by model and site."""

from datetime import timedelta
from typing import Any

from django.http.response import HttpResponseBase
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.export import CSV, JSON_LINES, XLSX, as_asked, as_xlsx, documented
from herald.http.fields import read_limit
from herald.people.permissions import WHOLE
from herald.samples.by_place import FirmwareReport, by_version, tables
from herald.samples.compliance import expected, on_the_way, over_time, standing
from herald.samples.failures import failed_days
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


class FailedObject(serializers.Serializer[Any]):
    """A rollout or a schedule, and on how many devices it failed on a day."""

    kind = serializers.ChoiceField(choices=["rollout", "schedule"])
    id = serializers.IntegerField()
    title = serializers.CharField()
    devices = serializers.IntegerField()


class FailedDayView(serializers.Serializer[Any]):
    """A day (UTC) on which something failed and was not tried again since: on how many devices an install, on how many
    a command, and of what; `others` counts rollouts and schedules that are not named."""

    day = serializers.DateField()
    installs = serializers.IntegerField()
    commands = serializers.IntegerField()
    of = FailedObject(many=True)
    others = serializers.IntegerField()


class FleetOverTime(serializers.Serializer[Any]):
    """The fleet over time, to now, and what is expected from now on. Days on which nothing failed are left out."""

    standing = StandingView()
    points = FleetPoint(many=True)
    expected = ExpectedPoint(many=True)
    families = FamilyOverTime(many=True)
    failed = FailedDayView(many=True)


class StandingApiView(APIView):
    """How much of the fleet is on an approved version, and when the rest will be."""

    @extend_schema(operation_id="fleet_standing", responses=StandingView)
    def get(self, request: Request) -> Response:
        return Response(StandingView(standing(on_the_way())).data)


class FleetOverTimeView(APIView):
    """Versions by family, the share on approved versions and the devices on time, from samples; and what failed."""

    @extend_schema(operation_id="fleet_over_time", parameters=[OpenApiParameter("days", int)], responses=FleetOverTime)
    def get(self, request: Request) -> Response:
        now = clock.now()
        days = read_limit(request.query_params.get("days"), default=30, most=MOST_DAYS)
        since = now - timedelta(days=days)
        points, families = over_time(since, now)
        ways = on_the_way()
        stands = standing(ways)
        ahead = expected(now, stands, ways)
        failed = failed_days(since.replace(hour=0, minute=0, second=0, microsecond=0))
        body = {"standing": stands, "points": points, "expected": ahead, "families": families, "failed": failed}
        return Response(FleetOverTime(body).data)


class FirmwareOfPlace(serializers.Serializer[Any]):
    """The devices of a model or a site: how many run an approved version, how many the newest one for their model, of
    how many no version is known, and how many called on time. `rule` finds those that run no approved version; it is
    empty where there are none, or where it would be too long to read. `target` is a model's newest approved version."""

    name = serializers.CharField()
    target = serializers.CharField()
    devices = serializers.IntegerField()
    approved = serializers.IntegerField()
    newest = serializers.IntegerField()
    unknown = serializers.IntegerField()
    on_time = serializers.IntegerField()
    rule = serializers.CharField()


class FirmwareReportAnswer(serializers.Serializer[Any]):
    """Which models and which sites are on approved versions, those with most devices that are not first."""

    at = serializers.DateTimeField()
    models = FirmwareOfPlace(many=True)
    sites = FirmwareOfPlace(many=True)


class FirmwareReportView(APIView):
    """How much of each model and each site is on an approved version now."""

    within_limits = WHOLE

    @extend_schema(operation_id="reports_firmware", responses=FirmwareReportAnswer)
    def get(self, request: Request) -> Response:
        return Response(FirmwareReportAnswer(FirmwareReport(clock.now())).data)


class FirmwareReportTableView(APIView):
    """The report as a file: a line for each version of each model at each site, or all of it as a workbook."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="reports_firmware_table",
        parameters=[OpenApiParameter("format", str, enum=["csv", "jsonl", "xlsx"], description="csv if left out")],
        responses=documented(CSV, JSON_LINES, XLSX),
    )
    def get(self, request: Request) -> HttpResponseBase:
        asked, report = request.query_params.get("format"), FirmwareReport(clock.now())
        return as_xlsx("firmware", tables(report)) if asked == "xlsx" else as_asked(by_version(report), asked)
