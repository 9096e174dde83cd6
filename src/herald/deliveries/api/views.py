"""Calls about what a device was and is told to do."""

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.clock.source import clock
from herald.deliveries.api.serializers import DeliveryRow, TimelineEntry
from herald.deliveries.models import Delivery
from herald.deliveries.timeline import device_timeline
from herald.deliveries.waiting import waits_of
from herald.fleet.services import find_device


class DeviceOrdersView(APIView):
    """A device's orders, the latest first: in hand, coming and past."""

    @extend_schema(operation_id="devices_orders", responses=DeliveryRow(many=True))
    def get(self, request: Request, device: str) -> Response:
        orders = list(Delivery.objects.about_device(find_device(device).pk)[:50])
        return Response(DeliveryRow(orders, many=True, context={"waits": waits_of(orders, clock.now())}).data)


class DeviceTimelineView(APIView):
    """What happened to a device, the latest first."""

    @extend_schema(operation_id="devices_timeline", responses=TimelineEntry(many=True))
    def get(self, request: Request, device: str) -> Response:
        return Response(TimelineEntry(device_timeline(find_device(device), most=100), many=True).data)
