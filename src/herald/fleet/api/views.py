"""Calls about devices, and about the fields that describe them."""

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.fleet.api.serializers import DeviceDetail, FieldInfo
from herald.fleet.live_view import start_live_view, stop_live_view
from herald.fleet.models import Device
from herald.fleet.services import ask_to_report, find_device
from herald.fleet.vocabulary import load_vocabulary
from herald.people.permissions import WHOLE, person
from herald.time import clock
from herald_core.rules.fields import OPERATORS


class DeviceView(APIView):
    """One device: by its id where that is digits only, else by its name or uid; `name:` or `uid:` before it tells."""

    within_limits = WHOLE

    @extend_schema(operation_id="devices_retrieve", responses=DeviceDetail)
    def get(self, request: Request, device: str) -> Response:
        return Response(DeviceDetail(find_device(device)).data)


class DeviceReportAction(APIView):
    """Ask a device to say everything at its next check-in."""

    within_limits = WHOLE

    @extend_schema(operation_id="devices_request_report", request=None, responses=DeviceDetail)
    def post(self, request: Request, device: str) -> Response:
        found = find_device(device)
        ask_to_report(found, actor=person(request), now=clock.now())
        return _as_it_is_now(found)


class DeviceLiveView(APIView):
    """Watch a device live: it says all of its facts every few seconds, for ten minutes from its next call on."""

    within_limits = WHOLE

    @extend_schema(operation_id="devices_watch_live", request=None, responses=DeviceDetail)
    def post(self, request: Request, device: str) -> Response:
        found = find_device(device)
        start_live_view(found, actor=person(request), now=clock.now())
        return _as_it_is_now(found)

    @extend_schema(operation_id="devices_stop_live", responses={204: None})
    def delete(self, request: Request, device: str) -> Response:
        stop_live_view(find_device(device))
        return Response(status=204)


class FieldListView(APIView):
    """The fields that rules may name, with the operators each has."""

    within_limits = WHOLE

    @extend_schema(operation_id="fields_list", responses=FieldInfo(many=True))
    def get(self, request: Request) -> Response:
        fields = sorted(load_vocabulary().fields.values(), key=lambda s: (s.source != "device", s.key))
        rows = [{**s.__dict__, "operators": [op.value for op in OPERATORS[s.type]]} for s in fields]
        return Response(FieldInfo(rows, many=True).data)


def _as_it_is_now(device: Device) -> Response:
    """The device, read again after something was asked of it."""
    return Response(DeviceDetail(find_device(f"id:{device.pk}")).data)
