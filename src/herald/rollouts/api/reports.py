"""Calls about a rollout as a whole: its report, as tables too, and its status by site, model and the like."""

from django.http.response import HttpResponseBase
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.deliveries.breakdown_fields import PLACES
from herald.http.errors import Conflict, Invalid
from herald.http.export import CSV, XLSX, as_csv, as_xlsx, documented
from herald.people.permissions import WHOLE
from herald.rollouts.api.report_serializers import BreakdownRow, FreezeOfRollout, ReportView
from herald.rollouts.api.shared import find_rollout
from herald.rollouts.models import Rollout
from herald.rollouts.watch import report
from herald.time import clock


class RolloutReportView(APIView):
    """What a rollout did, to its end or until now."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_report", responses=ReportView)
    def get(self, request: Request, rollout_id: int) -> Response:
        return Response(ReportView(report.report(_launched(rollout_id), now=clock.now())).data)


class RolloutReportTableView(APIView):
    """The report as a file: one line a device as CSV, or all of it as a workbook."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="rollouts_report_table",
        parameters=[OpenApiParameter("format", str, enum=["csv", "xlsx"], description="csv if left out")],
        responses=documented(CSV, XLSX),
    )
    def get(self, request: Request, rollout_id: int) -> HttpResponseBase:
        rollout = _launched(rollout_id)
        if request.query_params.get("format") == "xlsx":
            return as_xlsx(f"rollout-{rollout.pk}", report.sheets(rollout, now=clock.now()))
        return as_csv(report.devices_table(rollout, f"rollout-{rollout.pk}"))


class RolloutBreakdownView(APIView):
    """For each value of a field, how many devices of the rollout are in each phase."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="rollouts_breakdown",
        parameters=[OpenApiParameter("by", str, enum=list(PLACES), description="site if left out")],
        responses=BreakdownRow(many=True),
    )
    def get(self, request: Request, rollout_id: int) -> Response:
        field = request.query_params.get("by", "site")
        if field not in PLACES:
            raise Invalid("/by", f"Devices are counted by {', '.join(PLACES)}.")
        return Response(BreakdownRow(report.breakdown(find_rollout(rollout_id), field), many=True).data)


class RolloutFreezesView(APIView):
    """The freezes that hold devices of a rollout, from its launch on."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_freezes", responses=FreezeOfRollout(many=True))
    def get(self, request: Request, rollout_id: int) -> Response:
        found = report.freezes_of(find_rollout(rollout_id), now=clock.now())
        return Response(FreezeOfRollout(found, many=True).data)


def _launched(rollout_id: int) -> Rollout:
    rollout = find_rollout(rollout_id)
    if rollout.launched_at is None:
        raise Conflict("This rollout was not launched yet, so there is nothing to report.")
    return rollout
