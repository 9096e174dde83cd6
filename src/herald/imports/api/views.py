"""Calls that bring devices in from files."""

import csv
import io
from typing import Any

from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.groups.api.agreement import agreement_of
from herald.http.export import CSV, documented, safe_cell
from herald.http.fields import StrictSerializer, valid
from herald.http.pages import PAGE, newest_first, page_of
from herald.imports import mappings, services, undoing
from herald.imports.models import CellError, Import, SavedMapping
from herald.people.permissions import person
from herald.time import clock

SHOWN_WRONG = 200


class ImportErrorRow(serializers.ModelSerializer[CellError]):
    """A cell that cannot be taken; `row` is its line in the file."""

    class Meta:
        model = CellError
        fields = ("row", "column", "value", "reason")


class ImportRow(serializers.ModelSerializer[Import]):
    """A file with what it would do, or did. `mapping` is field by column; `wrong` are the first wrong cells."""

    mapping = serializers.DictField(child=serializers.CharField())
    headings = serializers.ListField(child=serializers.CharField())
    wrong = serializers.SerializerMethodField()

    class Meta:
        model = Import
        fields = (
            "id",
            "file_name",
            "state",
            "mapping",
            "headings",
            "row_count",
            "checked_count",
            "new_count",
            "changed_count",
            "unchanged_count",
            "wrong_count",
            "written_count",
            "all_or_nothing",
            "reason",
            "created_at",
            "wrong",
        )

    @extend_schema_field(ImportErrorRow(many=True))
    def get_wrong(self, found: Import) -> Any:
        return ImportErrorRow(found.wrong.order_by("row", "id")[:SHOWN_WRONG], many=True).data


class ImportFile(serializers.Serializer[Any]):
    file = serializers.FileField()


class ImportMapping(StrictSerializer):
    """What each column means; columns that are left out are not taken."""

    mapping = serializers.DictField(child=serializers.CharField(max_length=40))


class SavedMappingRow(serializers.ModelSerializer[SavedMapping]):
    """What columns mean, kept under a name; an empty field is a column that is not taken."""

    mapping = serializers.DictField(child=serializers.CharField(allow_blank=True))

    class Meta:
        model = SavedMapping
        fields = ("id", "name", "mapping")


class MappingToSave(StrictSerializer):
    """The mapping of this import, under a name."""

    name = serializers.CharField(max_length=80)


class ImportAcceptance(StrictSerializer):
    """`all_or_nothing` false takes the good rows and leaves the wrong ones."""

    all_or_nothing = serializers.BooleanField(default=True)


class ImportListRow(serializers.ModelSerializer[Import]):
    """An import in a list."""

    created_by = serializers.CharField(default=None, allow_null=True)

    class Meta:
        model = Import
        fields = ("id", "file_name", "state", "new_count", "changed_count", "written_count", "created_at", "created_by")


class UndoingView(serializers.Serializer[Any]):
    """What undoing an import does: devices that get back what they had, those removed as nothing was heard of them,
    those that have called since and wait for admission, and those changed since, which stand in the way."""

    restored = serializers.IntegerField()
    removed = serializers.IntegerField()
    kept_waiting = serializers.IntegerField()
    changed_since = serializers.IntegerField()


ImportPage = page_of("ImportPage", ImportListRow, "imports")


class ImportListView(APIView):
    """The latest imports, and new ones."""

    parser_classes = (MultiPartParser,)

    @extend_schema(operation_id="imports_list", parameters=PAGE, responses=ImportPage)
    def get(self, request: Request) -> Response:
        found = Import.objects.defer("content", "differences").select_related("created_by")
        rows, count, following = newest_first(found, request)
        return Response(ImportPage({"count": count, "imports": rows, "next": following}).data)

    @extend_schema(
        operation_id="imports_create", request={"multipart/form-data": ImportFile}, responses={201: ImportRow}
    )
    def post(self, request: Request) -> Response:
        given = valid(ImportFile(data=request.data))["file"]
        made = services.create_import(given.read(), given.name, actor=person(request), now=clock.now())
        return Response(ImportRow(made).data, status=201)


class ImportView(APIView):
    """One import."""

    @extend_schema(operation_id="imports_retrieve", responses=ImportRow)
    def get(self, request: Request, import_id: int) -> Response:
        return Response(ImportRow(get_object_or_404(Import.objects.defer("content"), pk=import_id)).data)

    @extend_schema(operation_id="imports_map", request=ImportMapping, responses=ImportRow)
    def patch(self, request: Request, import_id: int) -> Response:
        get_object_or_404(Import, pk=import_id)
        mapping = valid(ImportMapping(data=request.data))["mapping"]
        return Response(ImportRow(services.change_mapping(import_id, mapping)).data)


class ImportSaveMappingAction(APIView):
    """Keep what the columns of this file mean, for files with the same columns."""

    @extend_schema(operation_id="imports_save_mapping", request=MappingToSave, responses=SavedMappingRow)
    def post(self, request: Request, import_id: int) -> Response:
        found = get_object_or_404(Import.objects.defer("content"), pk=import_id)
        name = valid(MappingToSave(data=request.data))["name"]
        kept = mappings.keep_mapping(name, found.mapping, found.headings, actor=person(request), now=clock.now())
        return Response(SavedMappingRow(kept).data)


class SavedMappingListView(APIView):
    """The mappings that are kept."""

    @extend_schema(operation_id="import_mappings_list", responses=SavedMappingRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(SavedMappingRow(SavedMapping.objects.order_by("name"), many=True).data)


class SavedMappingView(APIView):
    """One kept mapping."""

    @extend_schema(operation_id="import_mappings_delete", responses={204: None})
    def delete(self, request: Request, mapping_id: int) -> Response:
        mappings.forget_mapping(get_object_or_404(SavedMapping, pk=mapping_id))
        return Response(status=204)


class ImportAcceptAction(APIView):
    """Write what the file says."""

    @extend_schema(operation_id="imports_accept", request=ImportAcceptance, responses=ImportRow)
    def post(self, request: Request, import_id: int) -> Response:
        get_object_or_404(Import, pk=import_id)
        how = valid(ImportAcceptance(data=request.data))
        accepted = services.accept(
            import_id, **how, actor=person(request), now=clock.now(), agreement=agreement_of(request)
        )
        return Response(ImportRow(accepted).data)


class ImportCancelAction(APIView):
    """Stop an import."""

    @extend_schema(operation_id="imports_cancel", request=None, responses=ImportRow)
    def post(self, request: Request, import_id: int) -> Response:
        get_object_or_404(Import, pk=import_id)
        return Response(ImportRow(services.cancel(import_id, actor=person(request), now=clock.now())).data)


class ImportUndoView(APIView):
    """What undoing an import would do, and doing so."""

    @extend_schema(operation_id="imports_undo_preview", responses=UndoingView)
    def get(self, request: Request, import_id: int) -> Response:
        found = get_object_or_404(Import.objects.defer("content"), pk=import_id)
        return Response(UndoingView(undoing.preview_undo(found)).data)

    @extend_schema(operation_id="imports_undo", request=None, responses=UndoingView)
    def post(self, request: Request, import_id: int) -> Response:
        get_object_or_404(Import.objects.defer("content"), pk=import_id)
        _, told = undoing.undo_import(
            import_id, actor=person(request), now=clock.now(), agreement=agreement_of(request)
        )
        return Response(UndoingView(told).data)


class ImportErrorsView(APIView):
    """The wrong cells as a file, to correct by."""

    @extend_schema(operation_id="imports_errors", responses=documented(CSV))
    def get(self, request: Request, import_id: int) -> HttpResponse:
        found = get_object_or_404(Import, pk=import_id)
        out = io.StringIO()
        writer = csv.writer(out)
        writer.writerow(["row", "column", "value", "reason"])
        for cell in found.wrong.order_by("row", "id"):
            writer.writerow(map(safe_cell, (cell.row, cell.column, cell.value, cell.reason)))
        response = HttpResponse("\ufeff" + out.getvalue(), content_type=f"{CSV}; charset=utf-8")
        response["Content-Disposition"] = 'attachment; filename="wrong-rows.csv"'
        return response
