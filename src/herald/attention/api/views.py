"""Calls about what is in quarantine."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.attention.models import Part, Quarantine
from herald.attention.names import names_of
from herald.attention.quarantine import try_now
from herald.people.permissions import person
from herald.time import clock


class QuarantineRow(serializers.ModelSerializer[Quarantine]):
    """An object that the system leaves alone until `retry_at`, as work on it fails."""

    part = serializers.ChoiceField(choices=Part.choices)
    name = serializers.CharField(help_text="what people call the object; empty where it has no name")

    class Meta:
        model = Quarantine
        fields = ("id", "part", "object_id", "name", "cause", "trace", "since", "failures", "retry_at")


class QuarantineListView(APIView):
    """What is in quarantine, the latest first."""

    @extend_schema(operation_id="quarantine_list", responses=QuarantineRow(many=True))
    def get(self, request: Request) -> Response:
        rows: list[Any] = list(Quarantine.objects.listed())
        names = {p: names_of(p, [r.object_id for r in rows if r.part == p]) for p in Part}
        for row in rows:
            row.name = names[Part(row.part)].get(row.object_id, "")
        return Response(QuarantineRow(rows, many=True).data)


class QuarantineTryAction(APIView):
    """Try an object again at the next turn of the clock."""

    @extend_schema(operation_id="quarantine_try", request=None, responses={204: None})
    def post(self, request: Request, quarantine_id: int) -> Response:
        try_now(quarantine_id, actor=person(request), now=clock.now())
        return Response(status=204)
