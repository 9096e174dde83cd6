"""Calls about how long things are kept."""

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.errors import Invalid
from herald.http.fields import StrictSerializer, read_number, valid
from herald.people.models import Ability
from herald.people.permissions import person
from herald.retention import services
from herald.retention.services import MOST_DAYS, Shown
from herald.time import clock


class KeptRow(serializers.Serializer[Any]):
    """A kind of thing that is kept for `days`, null for ever, and not less than `least_days`. `bytes` is what its
    tables take on disk, which other kinds may share. Of what is older than `deleted_before`, something is gone."""

    key = serializers.CharField(source="kind.key")
    name = serializers.CharField(source="kind.name")
    goes = serializers.CharField(source="kind.goes")
    stays = serializers.CharField(source="kind.stays")
    days = serializers.IntegerField(source="kept.days", allow_null=True)
    usual_days = serializers.IntegerField(source="kind.days", allow_null=True)
    least_days = serializers.IntegerField(source="kind.least")
    archives = serializers.BooleanField(source="kept.archives")
    oldest = serializers.DateTimeField(allow_null=True)
    bytes = serializers.IntegerField()
    deleted_before = serializers.DateTimeField(source="kept.deleted_before", allow_null=True)
    deleted = serializers.SerializerMethodField()
    deleted_at = serializers.DateTimeField(source="kept.deleted_at", allow_null=True)
    problem = serializers.CharField(source="kept.problem", allow_blank=True)
    changed_by = serializers.SerializerMethodField()
    changed_at = serializers.DateTimeField(source="kept.changed_at", allow_null=True)

    def get_deleted(self, shown: Shown) -> str:
        """How many were deleted in all, in words; empty for none."""
        return shown.kind.counted(shown.kept.deleted_rows) if shown.kept.deleted_rows else ""

    def get_changed_by(self, shown: Shown) -> str | None:
        """Who set it so; null where nobody did."""
        return str(shown.kept.changed_by) if shown.kept.changed_by else None


class KeptBody(StrictSerializer):
    """For how many days a kind is kept, null for ever; whether it is written to files before it is deleted; and, where
    something is deleted by this, how many that is."""

    days = serializers.IntegerField(min_value=1, max_value=MOST_DAYS, allow_null=True)
    archives = serializers.BooleanField(default=False)
    deletes = serializers.IntegerField(min_value=0, allow_null=True, default=None)


class KeptPreview(serializers.Serializer[Any]):
    """How many would be deleted, as a number and in words."""

    deletes = serializers.IntegerField()
    words = serializers.CharField()


class RetentionListView(APIView):
    """How long things are kept."""

    @extend_schema(operation_id="retention_list", responses=KeptRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(KeptRow(services.shown_kinds(), many=True).data)


class RetentionView(APIView):
    """How long one kind is kept."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="retention_set", request=KeptBody, responses=KeptRow)
    def put(self, request: Request, key: str) -> Response:
        body = valid(KeptBody(data=request.data))
        services.set_kept(
            key,
            days=body["days"],
            archives=body["archives"],
            confirmed=body["deletes"],
            actor=person(request),
            now=clock.now(),
        )
        return Response(KeptRow(services.shown(key)).data)


class RetentionPreview(APIView):
    """What would be deleted if a kind were kept for so many days."""

    @extend_schema(
        operation_id="retention_preview",
        parameters=[OpenApiParameter("days", int, required=True, description="for how many days it would be kept")],
        responses=KeptPreview,
    )
    def get(self, request: Request, key: str) -> Response:
        days = read_number(request.query_params.get("days"))
        if days is None:
            raise Invalid("/days", "Give a number of days.")
        deletes, words = services.goes_with(key, days, now=clock.now())
        return Response(KeptPreview({"deletes": deletes, "words": words}).data)
