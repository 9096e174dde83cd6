"""Calls that find devices: by rule and words, by values that exist, as a grid, as a file; and kept views."""

from typing import Any

from django.http.response import HttpResponseBase
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.find.models import SavedView
from herald.find.queries import found, grid_of, in_order, table_rows
from herald.fleet.api.serializers import DevicePage, ValueCount
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.values import value_counts
from herald.http.errors import Invalid, NotFound
from herald.http.export import CSV, JSON_LINES, XLSX, Table, as_asked, documented
from herald.http.fields import StrictSerializer, next_page, read_limit, read_number, valid
from herald.people.permissions import WHOLE, Tokens, person
from herald.time import clock
from herald_core.rules import FieldSpec, Vocabulary

RULE = OpenApiParameter("rule", str, description="a rule; without one, all devices")
WORDS = OpenApiParameter("q", str, description="words in a name, uid, serial, model or site")
ORDER = OpenApiParameter("order", str, description="a field to order by, - before it for the reverse; name if left out")
DEFAULT_COLUMNS = ("uid", "name", "serial", "model", "hardware", "firmware", "site", "custodian", "tag", "admission")


class DeviceListView(APIView):
    """Devices that a rule matches, by name unless another order is asked for."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="devices_list",
        parameters=[
            RULE,
            WORDS,
            ORDER,
            OpenApiParameter("columns", str, description="further fields to tell, between commas"),
            OpenApiParameter("cursor", str, description="`next` of the page before"),
            OpenApiParameter("limit", int, description="1 to 1000, 100 if left out"),
        ],
        responses=DevicePage,
    )
    def get(self, request: Request) -> Response:
        asked, now = request.query_params, clock.now()
        vocabulary = load_vocabulary()
        devices = found(asked.get("rule", ""), asked.get("q", "").strip(), vocabulary, now)
        limit, order, cursor = read_limit(asked.get("limit")), asked.get("order") or "name", asked.get("cursor")
        if order == "name":
            page = devices.page_after(cursor).with_names()[: limit + 1]
            rows, last = next_page(list(page), limit)
            further = last.name if last else None
        else:
            start = min(read_number(cursor) or 0, 10_000_000)
            page = in_order(devices, order, vocabulary, now).with_names()[start : start + limit + 1]
            rows, last = next_page(list(page), limit)
            further = str(start + limit) if last else None
        columns = _columns(asked.get("columns"), vocabulary)
        if columns:
            cells = table_rows(devices.by_ids([d.pk for d in rows]).order_by("id"), ["uid", *columns], vocabulary, now)
            told = {uid: dict(zip(columns, rest, strict=True)) for uid, *rest in cells}
            for device in rows:
                device.extra = told[device.uid]
        return Response(DevicePage({"count": devices.count(), "devices": rows, "next": further}).data)


class DeviceExportView(APIView):
    """The devices that a rule matches, as a file of exactly the named columns."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="devices_export",
        parameters=[
            RULE,
            WORDS,
            ORDER,
            OpenApiParameter("columns", str, description="fields between commas"),
            OpenApiParameter("format", str, enum=["csv", "xlsx", "jsonl"], description="csv if left out"),
        ],
        responses=documented(CSV, XLSX, JSON_LINES),
    )
    def get(self, request: Request) -> HttpResponseBase:
        asked, now = request.query_params, clock.now()
        vocabulary = load_vocabulary()
        columns = _columns(asked.get("columns"), vocabulary) or list(DEFAULT_COLUMNS)
        devices = found(asked.get("rule", ""), asked.get("q", "").strip(), vocabulary, now)
        ordered = in_order(devices, asked.get("order") or "name", vocabulary, now)
        table = Table("devices", columns, table_rows(ordered, columns, vocabulary, now))
        return as_asked(table, asked.get("format"))


class FieldValuesView(APIView):
    """The values of a field that exist, most frequent first; in the fleet, or among those a rule matches."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="fields_values",
        parameters=[OpenApiParameter("contains", str, description="part of the value"), RULE, WORDS],
        responses=ValueCount(many=True),
    )
    def get(self, request: Request, key: str) -> Response:
        asked, now = request.query_params, clock.now()
        vocabulary = load_vocabulary()
        rule, words = asked.get("rule", ""), asked.get("q", "").strip()
        devices = found(rule, words, vocabulary, now) if rule.strip() or words else None
        counts = value_counts(_field(key, vocabulary), now=now, devices=devices, beginning=asked.get("contains", ""))
        return Response(ValueCount([{"value": v, "count": n} for v, n in counts], many=True).data)


class GridBody(serializers.Serializer[Any]):
    """Counts of pairs of values: the commonest of each side, and one more row or column for the rarer ones together."""

    rows = serializers.ListField(child=serializers.CharField())
    columns = serializers.ListField(child=serializers.CharField())
    cells = serializers.ListField(child=serializers.ListField(child=serializers.IntegerField()))
    totals = serializers.ListField(
        child=serializers.IntegerField(allow_null=True),
        help_text="the devices of each row, whichever columns they are in; null where some would count twice",
    )
    without = serializers.ListField(
        child=serializers.IntegerField(),
        allow_null=True,
        help_text="the devices of each row that have no value for the columns; null where these are a set",
    )
    no_row = serializers.IntegerField(
        allow_null=True, help_text="devices that have no value for the rows; null where these are a set"
    )


class DeviceGridView(APIView):
    """Two fields against each other, among the devices that a rule matches."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="devices_grid",
        parameters=[
            RULE,
            WORDS,
            OpenApiParameter("row", str, required=True),
            OpenApiParameter("column", str, required=True),
        ],
        responses=GridBody,
    )
    def get(self, request: Request) -> Response:
        asked, now = request.query_params, clock.now()
        vocabulary = load_vocabulary()
        row, column = (_field(asked.get(side, ""), vocabulary, parameter=side) for side in ("row", "column"))
        devices = found(asked.get("rule", ""), asked.get("q", "").strip(), vocabulary, now)
        return Response(GridBody(grid_of(devices, row, column, now=now)).data)


class ViewDraft(StrictSerializer):
    """A view to keep; one of the same name is replaced."""

    name = serializers.CharField(max_length=60)
    address = serializers.DictField(child=serializers.CharField(max_length=10_000, allow_blank=True))


class ViewRow(serializers.ModelSerializer[SavedView]):
    """A kept view; `address` is what the fleet view has in its own."""

    address = serializers.DictField(child=serializers.CharField())

    class Meta:
        model = SavedView
        fields = ("id", "name", "address")


class ViewListView(APIView):
    """One's own kept views."""

    within_limits = WHOLE
    by_token = Tokens.UNLIMITED

    @extend_schema(operation_id="saved_views_list", responses=ViewRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(ViewRow(SavedView.objects.filter(owner=person(request)).order_by("name"), many=True).data)

    @extend_schema(operation_id="saved_views_save", request=ViewDraft, responses=ViewRow)
    def post(self, request: Request) -> Response:
        draft = valid(ViewDraft(data=request.data))
        view, _ = SavedView.objects.update_or_create(
            owner=person(request),
            name=draft["name"],
            defaults={"address": draft["address"]},
            create_defaults={"address": draft["address"], "created_at": clock.now()},
        )
        return Response(ViewRow(view).data)


class ViewView(APIView):
    """One kept view."""

    within_limits = WHOLE
    by_token = Tokens.UNLIMITED

    @extend_schema(operation_id="saved_views_delete", responses={204: None})
    def delete(self, request: Request, view_id: int) -> Response:
        get_object_or_404(SavedView, pk=view_id, owner=person(request)).delete()
        return Response(status=204)


def _field(key: str, vocabulary: Vocabulary, *, parameter: str = "") -> FieldSpec:
    """The field of this key, which stands in the path, or in a parameter of the query."""
    spec = vocabulary.get(key)
    if spec is None:
        words = f"No device has a field called “{key[:40]}”."
        raise Invalid(f"/{parameter}", words) if parameter else NotFound(words)
    return spec


def _columns(text: str | None, vocabulary: Vocabulary) -> list[str]:
    columns = [c for c in (text or "").split(",") if c]
    unknown = [c for c in columns if vocabulary.get(c) is None]
    if unknown:
        raise Invalid("/columns", f"No device has a field called {unknown[0][:40]}.")
    return columns
