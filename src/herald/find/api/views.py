"""Calls that find devices: by rule, by words, and by the values that exist."""

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.api.errors import NotFound
from herald.api.fields import next_page, read_limit
from herald.clock.source import clock
from herald.fleet.api.serializers import DevicePage, ValueCount
from herald.fleet.models import Device
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.rule_queries import matching
from herald.groups.rules import read_rule
from herald.groups.values import value_counts


class DeviceListView(APIView):
    """Devices that a rule matches, in the order of their names."""

    @extend_schema(
        operation_id="devices_list",
        parameters=[
            OpenApiParameter("rule", str, description="a rule; without one, all devices"),
            OpenApiParameter("words", str, description="part of a name, uid or serial"),
            OpenApiParameter("cursor", str, description="`next` of the page before"),
            OpenApiParameter("limit", int, description="1 to 1000, 100 if left out"),
        ],
        responses=DevicePage,
    )
    def get(self, request: Request) -> Response:
        rule, words = request.query_params.get("rule", "").strip(), request.query_params.get("words", "").strip()
        devices: Any = Device.objects.all()
        if rule:
            vocabulary = load_vocabulary()
            devices = matching(read_rule(rule, vocabulary), vocabulary, clock.now())
        if words:
            devices = devices.search(words)
        limit = read_limit(request.query_params.get("limit"))
        page = devices.page_after(request.query_params.get("cursor")).with_names()
        rows, last = next_page(list(page[: limit + 1]), limit)
        return Response(
            DevicePage({"count": devices.count(), "devices": rows, "next": last.name if last else None}).data
        )


class FieldValuesView(APIView):
    """The values of a field that exist in the fleet, most frequent first."""

    @extend_schema(
        operation_id="fields_values",
        parameters=[OpenApiParameter("beginning", str, description="part of the value")],
        responses=ValueCount(many=True),
    )
    def get(self, request: Request, key: str) -> Response:
        spec = load_vocabulary().get(key)
        if spec is None:
            raise NotFound(f"No device has a field called {key}.")
        counts = value_counts(spec, now=clock.now(), beginning=request.query_params.get("beginning", ""))
        return Response(ValueCount([{"value": v, "count": n} for v, n in counts], many=True).data)
