"""Calls about facts."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.catalog import facts
from herald.fleet.models import PropertyDefinition
from herald.groups.api.agreement import agreement_of
from herald.groups.api.serializers import GroupUse
from herald.http.fields import StrictSerializer, valid
from herald.people.permissions import READING, person
from herald.time import clock
from herald_core.facts import FOUND
from herald_core.rules import FieldType

TYPES = [(t.value, t.value) for t in FOUND]


class IncompatibleValue(serializers.Serializer[Any]):
    """A value that does not count, and how many devices report it."""

    value = serializers.CharField()
    devices = serializers.IntegerField()


class FactView(serializers.Serializer[Any]):
    """A key that devices report. `type` is null where it cannot be used in rules: `conflict` says whether a built-in
    field or an attribute has the key. `kinds` counts the last values by what they look like; `incompatible_values` do
    not fit the type and count as missing. `counted_at` null is not counted yet. `found` says that the type follows the
    values."""

    key = serializers.CharField()
    label = serializers.CharField(source="definition.label", default="")
    type = serializers.ChoiceField(choices=TYPES, source="definition.type", default=None, allow_null=True)
    unit = serializers.CharField(source="definition.unit", default="")
    note = serializers.CharField(source="definition.note", default="")
    found = serializers.BooleanField(source="definition.found", default=False)
    conflict = serializers.ChoiceField(choices=["", "built-in", "attribute"])
    mixed = serializers.BooleanField()
    devices = serializers.IntegerField(source="reported.devices", default=0)
    kinds = serializers.DictField(child=serializers.IntegerField(), source="reported.kinds", default=dict)
    incompatible_count = serializers.IntegerField(source="reported.incompatible_count", default=0)
    incompatible_values = IncompatibleValue(many=True, source="reported.incompatible_values", default=list)
    counted_at = serializers.DateTimeField(source="reported.counted_at", default=None, allow_null=True)
    uses = GroupUse(many=True)


class FactChange(StrictSerializer):
    """What to change of a fact; what is left out stays. A `type` that is set stands, whatever is reported."""

    label = serializers.CharField(max_length=80, required=False)
    unit = serializers.CharField(max_length=20, allow_blank=True, required=False)
    note = serializers.CharField(max_length=300, allow_blank=True, required=False)
    type = serializers.ChoiceField(choices=TYPES, required=False)


class FactListView(APIView):
    """The facts that devices report."""

    within_limits = READING

    @extend_schema(operation_id="facts_list", responses=FactView(many=True))
    def get(self, request: Request) -> Response:
        return Response(FactView(facts.list_facts(), many=True).data)


class FactItemView(APIView):
    """One fact."""

    @extend_schema(operation_id="facts_change", request=FactChange, responses=FactView)
    def patch(self, request: Request, key: str) -> Response:
        get_object_or_404(PropertyDefinition, key=key, source="fact")
        change: dict[str, Any] = valid(FactChange(data=request.data))
        if "type" in change:
            change["type"] = FieldType(change["type"])
        facts.change_fact(key, **change, actor=person(request), now=clock.now(), agreement=agreement_of(request))
        return Response(FactView(next(r for r in facts.list_facts() if r.key == key)).data)
