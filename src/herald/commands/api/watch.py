"""Calls about how firings went, and what commands gave on devices."""

from typing import Any

from django.http import FileResponse, HttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.commands import outputs, watch
from herald.commands.models import Schedule
from herald.deliveries.models import Delivery
from herald.groups.models import Folder
from herald.http.errors import NotFound
from herald.http.fields import NamedThing, StrictSerializer, read_limit, read_number, valid
from herald.people.permissions import WHOLE, person
from herald.time import clock
from herald_core.answers import Sort

FIRINGS = OpenApiParameter(
    "occurrence", str, description="ids of firings, separated by commas; those of the latest time if left out"
)


class AnswerGroupRow(serializers.Serializer[Any]):
    """Devices with one answer. `low` and `high` bound a bin of numbers; `examples` are texts of a group that are nearly
    equal."""

    key = serializers.CharField()
    sort = serializers.ChoiceField(choices=[s.value for s in Sort])
    label = serializers.CharField()
    count = serializers.IntegerField()
    low = serializers.FloatField(allow_null=True)
    high = serializers.FloatField(allow_null=True)
    examples = serializers.ListField(child=serializers.CharField())


class AnswersView(serializers.Serializer[Any]):
    """The answers of some firings; each device is in exactly one group. Of those that were deleted as they were old,
    `deleted` counts the devices; how many ended how is kept with each firing."""

    occurrences = serializers.ListField(child=serializers.IntegerField())
    devices = serializers.IntegerField()
    deleted = serializers.IntegerField()
    groups = AnswerGroupRow(many=True)


class AnswerGroupBody(StrictSerializer):
    """A static group to make of the devices that gave these answers."""

    occurrences = serializers.ListField(child=serializers.IntegerField(min_value=1), max_length=500)
    keys = serializers.ListField(child=serializers.CharField(max_length=400), max_length=100)
    name = serializers.CharField(max_length=80)
    folder = serializers.PrimaryKeyRelatedField(queryset=Folder.objects.all(), allow_null=True, default=None)


class SharesView(serializers.Serializer[Any]):
    """How the devices of the firings of the last 30 days ended."""

    devices = serializers.IntegerField()
    done = serializers.IntegerField()
    late = serializers.IntegerField()
    failed = serializers.IntegerField()
    missed = serializers.IntegerField()
    left = serializers.IntegerField()
    open = serializers.IntegerField()


class MissingDevice(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    name = serializers.CharField()
    in_a_row = serializers.IntegerField()


class ScheduleRecord(serializers.Serializer[Any]):
    """How a schedule went: shares, and the devices that missed it twice or more in a row."""

    shares = SharesView()
    missing = MissingDevice(many=True)


class OutputLine(serializers.Serializer[Any]):
    number = serializers.IntegerField()
    text = serializers.CharField(allow_blank=True)


class OutputView(serializers.Serializer[Any]):
    """What a command gave on a device. `found` counts the lines in which the words are found; `next` begins the
    following page of them. Of a log or a long text that was `is_cut`, the rest was not kept."""

    delivery = serializers.IntegerField()
    device = NamedThing()
    is_log = serializers.BooleanField()
    is_file = serializers.BooleanField()
    size = serializers.IntegerField()
    is_cut = serializers.BooleanField()
    found = serializers.IntegerField()
    lines = OutputLine(many=True)
    next = serializers.IntegerField(allow_null=True)


class ComparedOutput(serializers.Serializer[Any]):
    """A unified diff with the output of the same command on the same device before it; `before` is None without one."""

    before = serializers.IntegerField(allow_null=True)
    before_at = serializers.DateTimeField(allow_null=True)
    lines = serializers.ListField(child=serializers.CharField(allow_blank=True))


class ScheduleAnswersView(APIView):
    """What devices answered, put together."""

    within_limits = WHOLE

    @extend_schema(operation_id="schedules_answers", parameters=[FIRINGS], responses=AnswersView)
    def get(self, request: Request, schedule_id: int) -> Response:
        schedule = get_object_or_404(Schedule, pk=schedule_id)
        occurrences = watch.read_occurrences(schedule, request.query_params.get("occurrence"))
        groups = watch.answers_of(schedule, occurrences)
        body = {
            "occurrences": occurrences,
            "devices": sum(g.count for g in groups),
            "deleted": watch.deleted_answers(occurrences),
            "groups": groups,
        }
        return Response(AnswersView(body).data)


class ScheduleAnswersGroupAction(APIView):
    """Make a static group of the devices that gave some answers."""

    @extend_schema(operation_id="schedules_group_answers", request=AnswerGroupBody, responses={201: NamedThing})
    def post(self, request: Request, schedule_id: int) -> Response:
        schedule = get_object_or_404(Schedule, pk=schedule_id)
        body = valid(AnswerGroupBody(data=request.data))
        group = watch.group_of_answers(
            schedule,
            body["occurrences"],
            body["keys"],
            name=body["name"],
            folder=body["folder"],
            actor=person(request),
            now=clock.now(),
        )
        return Response(NamedThing({"id": group.pk, "name": group.name}).data, status=201)


class ScheduleRecordView(APIView):
    """How a schedule went."""

    within_limits = WHOLE

    @extend_schema(operation_id="schedules_record", responses=ScheduleRecord)
    def get(self, request: Request, schedule_id: int) -> Response:
        schedule = get_object_or_404(Schedule, pk=schedule_id)
        body = {"shares": watch.shares_of(schedule, clock.now()), "missing": watch.repeated_misses(schedule)}
        return Response(ScheduleRecord(body).data)


def _command(delivery_id: int) -> Delivery:
    found: Delivery = get_object_or_404(
        Delivery.objects.filter(kind="command").select_related("device", "occurrence"), pk=delivery_id
    )
    return found


class DeliveryOutputView(APIView):
    """What a command gave on a device, line by line."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="deliveries_output",
        parameters=[
            OpenApiParameter("q", str, description="only lines with these words"),
            OpenApiParameter("first", int, description="the number of the first line, 1 if left out"),
            OpenApiParameter("limit", int, description="1 to 1000, 500 if left out"),
        ],
        responses=OutputView,
    )
    def get(self, request: Request, delivery_id: int) -> Response:
        params, delivery = request.query_params, _command(delivery_id)
        output, text = watch.output_of(delivery)
        most = read_limit(params.get("limit"), default=500)
        first = read_number(params.get("first")) or 1
        lines, found = outputs.lines_of_text(text, words=params.get("q", ""), first=first, most=most + 1)
        body = {
            "delivery": delivery.pk,
            "device": {"id": delivery.device_id, "name": delivery.device.name},
            "is_log": output.is_log if output else False,
            "is_file": output is not None,
            "size": output.size if output else len(text.encode()),
            "is_cut": output.is_cut if output else False,
            "found": found,
            "lines": lines[:most],
            "next": lines[most].number if len(lines) > most else None,
        }
        return Response(OutputView(body).data)


class DeliveryOutputFileView(APIView):
    """The same as a file; each download is recorded."""

    within_limits = WHOLE

    @extend_schema(operation_id="deliveries_output_file", responses={(200, "text/plain"): OpenApiTypes.BINARY})
    def get(self, request: Request, delivery_id: int) -> HttpResponseBase:
        delivery = _command(delivery_id)
        output, text = watch.output_of(delivery)
        name = f"{delivery.device.name}-{delivery.pk}.txt"
        if output is None:
            response: HttpResponseBase = HttpResponse(text, content_type="text/plain; charset=utf-8")
            response["Content-Disposition"] = f'attachment; filename="{delivery.pk}.txt"'
        else:
            path = outputs.path_of(output)
            if not path.exists():
                raise NotFound("The file is not there any more; outputs are kept for 30 days.")
            outputs.note_download(output, actor=person(request), now=clock.now())
            response = FileResponse(path.open("rb"), as_attachment=True, filename=name, content_type="text/plain")
        response["X-Content-Type-Options"] = "nosniff"
        return response


class DeliveryOutputCompareView(APIView):
    """What changed since the same command gave something on the same device."""

    within_limits = WHOLE

    @extend_schema(operation_id="deliveries_output_compare", responses=ComparedOutput)
    def get(self, request: Request, delivery_id: int) -> Response:
        delivery = _command(delivery_id)
        before = watch.output_before(delivery)
        texts = [watch.output_of(d)[1] for d in (before, delivery) if d is not None]
        body = {
            "before": before.pk if before else None,
            "before_at": before.phase_since if before else None,
            "lines": outputs.compared(*texts) if before else [],
        }
        return Response(ComparedOutput(body).data)
