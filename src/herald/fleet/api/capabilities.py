"""Calls about what models and firmware can do."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.fleet import capabilities
from herald.fleet.models import DeviceModel
from herald.http.errors import NotFound
from herald.http.fields import StrictSerializer, valid
from herald.people.permissions import WHOLE
from herald_core.capabilities import WORDS, Capability

CAPABILITIES = [(f.value, WORDS[f]) for f in Capability]


class CapabilityRangeBody(StrictSerializer):
    """Which firmware has a capability: from one version to another, both included; empty is open. `never` is none.
    A range that is open at both ends is all firmware, the same as not to name the capability."""

    capability = serializers.ChoiceField(choices=CAPABILITIES)
    never = serializers.BooleanField(default=False)
    from_version = serializers.CharField(max_length=64, allow_blank=True, default="")
    to_version = serializers.CharField(max_length=64, allow_blank=True, default="")


class ModelCapabilitiesBody(StrictSerializer):
    ranges = CapabilityRangeBody(many=True)


class CapabilityCell(serializers.Serializer[Any]):
    """A capability of a model. `without` counts devices that have not got it, `rule` finds them; it is empty where all
    firmware has it."""

    capability = serializers.ChoiceField(choices=CAPABILITIES, source="range.capability")
    never = serializers.BooleanField(source="range.never")
    from_version = serializers.CharField(source="range.from_version")
    to_version = serializers.CharField(source="range.to_version")
    words = serializers.CharField()
    without = serializers.IntegerField()
    rule = serializers.CharField()


class ModelCapabilitiesRow(serializers.Serializer[Any]):
    """What a model can do, capability by capability."""

    id = serializers.IntegerField(source="model.pk")
    name = serializers.CharField(source="model.name")
    capabilities = CapabilityCell(many=True, source="cells")


class CapabilityTableView(APIView):
    """What each model can do, and on which firmware."""

    within_limits = WHOLE

    @extend_schema(operation_id="capabilities_list", responses=ModelCapabilitiesRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(ModelCapabilitiesRow(capabilities.table(), many=True).data)


class ModelCapabilitiesPreview(APIView):
    """How many devices would be without each capability; changes nothing."""

    changes_nothing = True

    @extend_schema(operation_id="capabilities_preview", request=ModelCapabilitiesBody, responses=ModelCapabilitiesRow)
    def post(self, request: Request, pk: int) -> Response:
        return Response(ModelCapabilitiesRow(capabilities.capabilities_of(*asked_capabilities(request, pk))).data)


def asked_capabilities(request: Request, pk: int) -> tuple[DeviceModel, list[capabilities.RangeDraft]]:
    """The model, and what a request says that it can do."""
    model = DeviceModel.objects.filter(pk=pk).first()
    if model is None:
        raise NotFound(f"There is no model {pk}.")
    drafts = [
        capabilities.RangeDraft(**{**row, "capability": Capability(row["capability"])})
        for row in valid(ModelCapabilitiesBody(data=request.data))["ranges"]
    ]
    return model, drafts
