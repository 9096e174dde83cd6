"""The call about what happened since somebody was here last."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.now.since import since_last_visit
from herald.people.permissions import READING, Tokens, person
from herald.record.api.views import RecordRow
from herald.time import clock


class SinceView(serializers.Serializer[Any]):
    """What happened since somebody's last visit ended. Installs that devices confirmed, or that failed for good; what
    became of commands whose firings are over; `acts` are the latest of the `all_acts` of others and of the system."""

    since = serializers.DateTimeField()
    confirmed = serializers.IntegerField()
    failed = serializers.IntegerField()
    commands_done = serializers.IntegerField()
    commands_failed = serializers.IntegerField()
    commands_missed = serializers.IntegerField()
    new_devices = serializers.IntegerField()
    items_opened = serializers.IntegerField()
    items_closed = serializers.IntegerField()
    all_acts = serializers.IntegerField()
    acts = RecordRow(many=True)


class SinceAnswer(serializers.Serializer[Any]):
    """Null for whoever is here for the first time, or without a break."""

    told = SinceView(allow_null=True)


class SinceApiView(APIView):
    """What happened since one's last visit."""

    within_limits = READING
    by_token = Tokens.UNLIMITED

    @extend_schema(operation_id="now_since", responses=SinceAnswer)
    def get(self, request: Request) -> Response:
        return Response(SinceAnswer({"told": since_last_visit(person(request), clock.now())}).data)
