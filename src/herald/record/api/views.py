"""Calls about the record."""

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.api.fields import read_limit, read_number
from herald.record.models import RecordEntry


class RecordRow(serializers.ModelSerializer[RecordEntry]):
    """One act; no actor means that the clock acted."""

    actor = serializers.CharField(source="actor.name", default=None, allow_null=True)

    class Meta:
        model = RecordEntry
        fields = ("id", "at", "actor", "kind", "object_id", "sentence")


class RecordListView(APIView):
    """Who did what, the latest first."""

    @extend_schema(
        operation_id="record_list",
        parameters=[
            OpenApiParameter("before", int, description="id of the last entry seen"),
            OpenApiParameter("limit", int),
        ],
        responses=RecordRow(many=True),
    )
    def get(self, request: Request) -> Response:
        entries, before = RecordEntry.objects.latest_first(), read_number(request.query_params.get("before"))
        if before is not None:
            entries = entries.filter(id__lt=before)
        return Response(RecordRow(entries[: read_limit(request.query_params.get("limit"))], many=True).data)
