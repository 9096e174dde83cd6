"""Calls about what is in quarantine."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.attention.models import Part, Quarantine
from herald.attention.quarantine import try_now
from herald.clock.source import clock


class QuarantineRow(serializers.ModelSerializer[Quarantine]):
    """An object that the system leaves alone until `retry_at`, as work on it fails."""

    part = serializers.ChoiceField(choices=Part.choices)

    class Meta:
        model = Quarantine
        fields = ("id", "part", "object_id", "cause", "trace", "since", "failures", "retry_at")


class QuarantineListView(APIView):
    """What is in quarantine, the latest first."""

    @extend_schema(operation_id="quarantine_list", responses=QuarantineRow(many=True))
    def get(self, request: Request) -> Response:
        rows: Any = Quarantine.objects.listed()
        return Response(QuarantineRow(rows, many=True).data)


class QuarantineTryAction(APIView):
    """Try an object again at the next turn of the clock."""

    @extend_schema(operation_id="quarantine_try", request=None, responses={204: None})
    def post(self, request: Request, quarantine_id: int) -> Response:
        try_now(quarantine_id, actor=request.user, now=clock.now())
        return Response(status=204)
