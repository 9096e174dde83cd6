"""Calls about devices, and about the fields that describe them."""

from typing import Any

from django.db.models import Q
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.api.errors import NotFound
from herald.api.fields import next_page, read_limit
from herald.clock.source import clock
from herald.deliveries.api.serializers import DeliveryRow, TimelineEntry
from herald.deliveries.models import Delivery
from herald.deliveries.timeline import device_timeline
from herald.fleet.api.serializers import DeviceDetail, DevicePage, FieldInfo, ValueCount
from herald.fleet.models import Device
from herald.fleet.values import value_counts
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.rule_queries import matching
from herald.groups.rules import read_rule
from herald_core.rules.fields import OPERATORS


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


class DeviceView(APIView):
    """One device, by its id, name or uid."""

    @extend_schema(operation_id="devices_retrieve", responses=DeviceDetail)
    def get(self, request: Request, device: str) -> Response:
        return Response(DeviceDetail(find_device(device)).data)


class DeviceOrdersView(APIView):
    """A device's orders, the latest first: in hand, coming and past."""

    @extend_schema(operation_id="devices_orders", responses=DeliveryRow(many=True))
    def get(self, request: Request, device: str) -> Response:
        orders = Delivery.objects.about_device(find_device(device).pk)[:50]
        return Response(DeliveryRow(orders, many=True).data)


class DeviceTimelineView(APIView):
    """What happened to a device, the latest first."""

    @extend_schema(operation_id="devices_timeline", responses=TimelineEntry(many=True))
    def get(self, request: Request, device: str) -> Response:
        return Response(TimelineEntry(device_timeline(find_device(device), most=100), many=True).data)


class FieldListView(APIView):
    """The fields that rules may name, with the operators each has."""

    @extend_schema(operation_id="fields_list", responses=FieldInfo(many=True))
    def get(self, request: Request) -> Response:
        fields = sorted(load_vocabulary().fields.values(), key=lambda s: (s.source != "device", s.key))
        rows = [{**s.__dict__, "operators": [op.value for op in OPERATORS[s.type]]} for s in fields]
        return Response(FieldInfo(rows, many=True).data)


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


def find_device(word: str) -> Device:
    """The device with this id, name or uid."""
    by_id = Q(pk=int(word)) if word.isdigit() and len(word) < 18 else Q(pk__in=[])
    return get_object_or_404(Device.objects.with_names(), by_id | Q(name=word) | Q(uid=word))
