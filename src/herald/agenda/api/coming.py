"""Calls about what will reach one device, one site or one group."""

from datetime import timedelta
from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.agenda.coming import ComingKind, coming_up
from herald.agenda.rows import OnlyRow
from herald.fleet.models import Site
from herald.fleet.services import find_device
from herald.groups.models import Group
from herald.time import clock

WEEK = timedelta(days=7)
#: of what comes again and again, the next so many times
EACH = 7


class ComingView(serializers.Serializer[Any]):
    """Something that will happen by itself: a firing, the window of a rollout that opens, a ring that is expected to,
    a freeze that begins, or one that ends (thaw). `zone` is * where it is not of one; `id` is of its object."""

    at = serializers.DateTimeField()
    kind = serializers.ChoiceField(choices=[k.value for k in ComingKind])
    id = serializers.IntegerField()
    zone = serializers.CharField()
    text = serializers.CharField()
    detail = serializers.CharField()
    devices = serializers.IntegerField()


class DeviceComingView(APIView):
    """What will reach a device within a week, by itself: soonest first."""

    @extend_schema(operation_id="devices_coming", responses=ComingView(many=True))
    def get(self, request: Request, device: str) -> Response:
        return _coming(OnlyRow(device=find_device(device).pk))


class SiteComingView(APIView):
    """What will reach the devices of a site within a week."""

    @extend_schema(operation_id="sites_coming", responses=ComingView(many=True))
    def get(self, request: Request, site_id: int) -> Response:
        return _coming(OnlyRow(site=get_object_or_404(Site, pk=site_id).pk))


class GroupComingView(APIView):
    """What will reach the members of a group within a week."""

    @extend_schema(operation_id="groups_coming", responses=ComingView(many=True))
    def get(self, request: Request, group_id: int) -> Response:
        return _coming(OnlyRow(group=get_object_or_404(Group, pk=group_id).pk))


def _coming(row: OnlyRow) -> Response:
    found: Any = coming_up(now=clock.now(), rows=row, within=WEEK, each=EACH)
    return Response(ComingView(found, many=True).data)
