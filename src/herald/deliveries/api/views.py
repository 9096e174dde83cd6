"""Calls about what a device was and is told to do."""

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.deliveries.api.serializers import DeliveryPage, TimelineEntry
from herald.deliveries.models import Delivery
from herald.deliveries.timeline import device_timeline
from herald.deliveries.waiting import waits_of
from herald.fleet.services import find_device
from herald.http.fields import read_limit
from herald.http.pages import PAGE, newest_first
from herald.people.permissions import WHOLE
from herald.time import clock


class DeviceOrdersView(APIView):
    """A device's orders, the latest first: the current one, those to come and past ones."""

    within_limits = WHOLE

    @extend_schema(operation_id="devices_orders", parameters=PAGE, responses=DeliveryPage)
    def get(self, request: Request, device: str) -> Response:
        orders, count, following = newest_first(Delivery.objects.about_device(find_device(device).pk), request)
        body = {"count": count, "deliveries": orders, "next": following}
        return Response(DeliveryPage(body, context={"waits": waits_of(orders, clock.now())}).data)


class DeviceTimelineView(APIView):
    """What happened to a device, the latest first."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="devices_timeline",
        parameters=[OpenApiParameter("limit", int, description="1 to 1000, 100 if left out")],
        responses=TimelineEntry(many=True),
    )
    def get(self, request: Request, device: str) -> Response:
        most = read_limit(request.query_params.get("limit"))
        return Response(TimelineEntry(device_timeline(find_device(device), most=most), many=True).data)
