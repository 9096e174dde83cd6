"""Calls about imports that repeat."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.fields import NamedThing, StrictSerializer, valid
from herald.imports import repeating
from herald.imports.models import ImportState, RepeatedImport, SavedMapping
from herald.people.permissions import person
from herald.time import clock


class RepeatedImportBody(StrictSerializer):
    """A file to import again and again, by a kept mapping. `unasked` is how many devices a file may make and change
    without somebody's agreement. `authorization` is sent to that host only; left out, the one there is stays while the
    host is the same, and null takes it away."""

    name = serializers.CharField(max_length=80)
    url = serializers.CharField(max_length=1000)
    mapping = serializers.PrimaryKeyRelatedField(queryset=SavedMapping.objects.all())
    authorization = serializers.CharField(max_length=500, allow_blank=True, allow_null=True, required=False)
    all_or_nothing = serializers.BooleanField(default=True)
    read_every_minutes = serializers.IntegerField(min_value=60, max_value=10_080, default=1440)
    unasked = serializers.IntegerField(min_value=0, max_value=1_000_000, default=100)


class LastImport(serializers.Serializer[Any]):
    """The file that was read last."""

    id = serializers.IntegerField()
    state = serializers.ChoiceField(choices=ImportState.choices)
    new_count = serializers.IntegerField()
    changed_count = serializers.IntegerField()
    wrong_count = serializers.IntegerField()
    created_at = serializers.DateTimeField()


class RepeatedImportRow(serializers.ModelSerializer[RepeatedImport]):
    """An import that repeats: when its file was read, what became of the last one, and why it waits for somebody."""

    mapping = NamedThing()
    created_by = serializers.CharField(default=None, allow_null=True)
    has_authorization = serializers.SerializerMethodField()
    last_import = LastImport(allow_null=True)

    class Meta:
        model = RepeatedImport
        fields = (
            "id", "name", "url", "has_authorization", "mapping", "all_or_nothing", "read_every_minutes", "unasked",
            "created_by", "tried_at", "read_at", "failures", "last_error", "last_import", "waits_for",
        )  # fmt: skip

    def get_has_authorization(self, repeated: RepeatedImport) -> bool:
        return bool(repeated.authorization)


class RepeatedImportListView(APIView):
    """The imports that repeat, by name, and new ones."""

    @extend_schema(operation_id="repeated_imports_list", responses=RepeatedImportRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(RepeatedImportRow(RepeatedImport.objects.listed(), many=True).data)

    @extend_schema(
        operation_id="repeated_imports_create", request=RepeatedImportBody, responses={201: RepeatedImportRow}
    )
    def post(self, request: Request) -> Response:
        made = repeating.save_repeated(_draft(request), actor=person(request), now=clock.now())
        return Response(_row(made.pk), status=201)


class RepeatedImportView(APIView):
    """One import that repeats."""

    @extend_schema(operation_id="repeated_imports_change", request=RepeatedImportBody, responses=RepeatedImportRow)
    def put(self, request: Request, repeated_id: int) -> Response:
        repeated = get_object_or_404(RepeatedImport, pk=repeated_id)
        repeating.save_repeated(_draft(request), actor=person(request), now=clock.now(), repeated=repeated)
        return Response(_row(repeated_id))

    @extend_schema(operation_id="repeated_imports_delete", responses={204: None})
    def delete(self, request: Request, repeated_id: int) -> Response:
        repeated = get_object_or_404(RepeatedImport, pk=repeated_id)
        repeating.delete_repeated(repeated, actor=person(request), now=clock.now())
        return Response(status=204)


class RepeatedImportReadAction(APIView):
    """Read the file now and have it checked; it waits for somebody to accept it, as any import does."""

    @extend_schema(operation_id="repeated_imports_read", request=None, responses=RepeatedImportRow)
    def post(self, request: Request, repeated_id: int) -> Response:
        repeated = get_object_or_404(RepeatedImport.objects.listed(), pk=repeated_id)
        repeating.read_now(repeated, actor=person(request), now=clock.now())
        return Response(_row(repeated_id))


def _draft(request: Request) -> repeating.RepeatDraft:
    body = valid(RepeatedImportBody(data=request.data))
    if "authorization" in body:
        body["authorization"] = body["authorization"] or ""
    return repeating.RepeatDraft(**body)


def _row(repeated_id: int) -> Any:
    return RepeatedImportRow(RepeatedImport.objects.listed().get(pk=repeated_id)).data
