"""Calls about planned outages."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.fleet.models import Site
from herald.groups.models import Group
from herald.http.fields import StrictSerializer, valid
from herald.outages import services
from herald.people.permissions import person
from herald.time import clock


class OutageRow(serializers.Serializer[Any]):
    """The devices of a site or of a group that are expected to be silent for a time, and why. `devices` are those that
    are meant, `late` those of them that are not heard from in time."""

    id = serializers.IntegerField(source="outage.pk")
    site = serializers.IntegerField(source="outage.site_id", allow_null=True)
    group = serializers.IntegerField(source="outage.group_id", allow_null=True)
    where = serializers.CharField(source="outage.where")
    starts_at = serializers.DateTimeField(source="outage.starts_at")
    ends_at = serializers.DateTimeField(source="outage.ends_at")
    reason = serializers.CharField(source="outage.reason")
    made_by = serializers.CharField(source="outage.made_by.name", default=None, allow_null=True)
    devices = serializers.IntegerField()
    late = serializers.IntegerField()


class OutageBody(StrictSerializer):
    """A site or a group, from when (now, where it is left out) until when, and why."""

    site = serializers.PrimaryKeyRelatedField(queryset=Site.objects.all(), allow_null=True, default=None)
    group = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), allow_null=True, default=None)
    starts_at = serializers.DateTimeField(allow_null=True, default=None)
    ends_at = serializers.DateTimeField()
    reason = serializers.CharField(max_length=300)


class OutageListView(APIView):
    """Planned outages: under way, to come, and those that were over within a week."""

    @extend_schema(operation_id="outages_list", responses=OutageRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(_rows())

    @extend_schema(operation_id="outages_create", request=OutageBody, responses={201: OutageRow(many=True)})
    def post(self, request: Request) -> Response:
        body = valid(OutageBody(data=request.data))
        services.plan_outage(**body, actor=person(request), now=clock.now())
        return Response(_rows(), status=201)


class OutageView(APIView):
    """One planned outage."""

    @extend_schema(operation_id="outages_end", responses={200: OutageRow(many=True)})
    def delete(self, request: Request, outage_id: int) -> Response:
        services.end_outage(outage_id, actor=person(request), now=clock.now())
        return Response(_rows())


def _rows() -> Any:
    return OutageRow(services.shown_outages(clock.now()), many=True).data
