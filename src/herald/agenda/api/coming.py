"""Calls about what will reach one device, one site or one group, and what the uplink of a site has to carry."""

from dataclasses import asdict
from datetime import timedelta
from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.agenda.coming import ComingKind, coming_up
from herald.agenda.load import Bars, uplink_of
from herald.agenda.rows import OnlyRow
from herald.fleet.models import Site
from herald.fleet.services import find_device
from herald.groups.models import Group
from herald.people.permissions import WHOLE
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


class UplinkHour(serializers.Serializer[Any]):
    """How many files are expected to come at once, in the mean of the hour from `at` on."""

    at = serializers.DateTimeField()
    at_once = serializers.FloatField()


class UplinkView(serializers.Serializer[Any]):
    """How many files a site’s uplink carries at once, how many are under way, how many wait, and what the forecasts of
    running rollouts expect. Each of these takes the uplink for its own, so that several together may want more."""

    at_once = serializers.IntegerField()
    under_way = serializers.IntegerField()
    waiting = serializers.IntegerField()
    hours = UplinkHour(many=True)


class DeviceComingView(APIView):
    """What will reach a device within a week, by itself: soonest first."""

    within_limits = WHOLE

    @extend_schema(operation_id="devices_coming", responses=ComingView(many=True))
    def get(self, request: Request, device: str) -> Response:
        return _coming(OnlyRow(device=find_device(device).pk))


class SiteComingView(APIView):
    """What will reach the devices of a site within a week."""

    within_limits = WHOLE

    @extend_schema(operation_id="sites_coming", responses=ComingView(many=True))
    def get(self, request: Request, site_id: int) -> Response:
        return _coming(OnlyRow(site=get_object_or_404(Site, pk=site_id).pk))


class SiteUplinkView(APIView):
    """What the uplink of a site has to carry within a week, hour by hour."""

    within_limits = WHOLE

    @extend_schema(operation_id="sites_uplink", responses=UplinkView)
    def get(self, request: Request, site_id: int) -> Response:
        start = clock.now().replace(minute=0, second=0, microsecond=0)
        bars = Bars(start, start + WEEK)
        found = uplink_of(get_object_or_404(Site, pk=site_id), bars)
        hours = [{"at": bars.begin(place), "at_once": n} for place, n in enumerate(found.load)]
        return Response(UplinkView({**asdict(found), "hours": hours}).data)


class GroupComingView(APIView):
    """What will reach the members of a group within a week."""

    within_limits = WHOLE

    @extend_schema(operation_id="groups_coming", responses=ComingView(many=True))
    def get(self, request: Request, group_id: int) -> Response:
        return _coming(OnlyRow(group=get_object_or_404(Group, pk=group_id).pk))


def _coming(row: OnlyRow) -> Response:
    found: Any = coming_up(now=clock.now(), rows=row, within=WEEK, each=EACH)
    return Response(ComingView(found, many=True).data)
