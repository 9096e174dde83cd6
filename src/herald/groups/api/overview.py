"""The call about all groups at once."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.groups.overview import groups_overview
from herald.http.fields import NamedThing
from herald.people.permissions import WHOLE
from herald.time import clock


class GroupChangeRow(serializers.Serializer[Any]):
    """How many devices joined and left a group in the last 24 hours."""

    group = NamedThing()
    joined = serializers.IntegerField()
    left = serializers.IntegerField()


class TagUsedOnceRow(serializers.Serializer[Any]):
    """A tag that one device has."""

    tag = serializers.CharField()
    device = serializers.CharField()


class GroupsOverviewAnswer(serializers.Serializer[Any]):
    """All groups at once. `in_no_group_rule` lists the devices that are in none; empty where it would be too long."""

    devices = serializers.IntegerField()
    in_no_group = serializers.IntegerField()
    in_no_group_rule = serializers.CharField()
    changed = GroupChangeRow(many=True)
    empty = NamedThing(many=True)
    equal = serializers.ListField(child=NamedThing(many=True))
    tags_once = TagUsedOnceRow(many=True)


class GroupsOverviewView(APIView):
    """What changed in the groups within 24 hours, and what may be a slip."""

    within_limits = WHOLE

    @extend_schema(operation_id="groups_overview", responses=GroupsOverviewAnswer)
    def get(self, request: Request) -> Response:
        return Response(GroupsOverviewAnswer(groups_overview(now=clock.now())).data)
