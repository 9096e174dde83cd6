"""Calls about what models and firmware can do."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.api.errors import NotFound
from herald.api.fields import Strict, valid
from herald.fleet import functions
from herald.fleet.models import DeviceModel
from herald_core.functions import WORDS, Function

FUNCTIONS = [(f.value, WORDS[f]) for f in Function]


class FunctionRangeBody(Strict):
    """Which firmware has a function: from one version to another, both included; empty is open. `never` is none.
    A range that is open at both ends is all firmware, the same as not to name the function."""

    function = serializers.ChoiceField(choices=FUNCTIONS)
    never = serializers.BooleanField(default=False)
    from_version = serializers.CharField(max_length=64, allow_blank=True, default="")
    to_version = serializers.CharField(max_length=64, allow_blank=True, default="")


class ModelFunctionsBody(Strict):
    ranges = FunctionRangeBody(many=True)


class FunctionCell(serializers.Serializer[Any]):
    """A function of a model. `without` counts devices that have not got it, `rule` finds them; it is empty where all
    firmware has it."""

    function = serializers.ChoiceField(choices=FUNCTIONS, source="range.function")
    never = serializers.BooleanField(source="range.never")
    from_version = serializers.CharField(source="range.from_version")
    to_version = serializers.CharField(source="range.to_version")
    words = serializers.CharField()
    without = serializers.IntegerField()
    rule = serializers.CharField()


class ModelFunctionsRow(serializers.Serializer[Any]):
    """What a model can do, function by function."""

    id = serializers.IntegerField(source="model.pk")
    name = serializers.CharField(source="model.name")
    functions = FunctionCell(many=True, source="cells")


class FunctionTableView(APIView):
    """What each model can do, and on which firmware."""

    @extend_schema(operation_id="functions_list", responses=ModelFunctionsRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(ModelFunctionsRow(functions.table(), many=True).data)


class ModelFunctionsPreview(APIView):
    """How many devices would be without each function; changes nothing."""

    changes_nothing = True

    @extend_schema(operation_id="functions_preview", request=ModelFunctionsBody, responses=ModelFunctionsRow)
    def post(self, request: Request, pk: int) -> Response:
        return Response(ModelFunctionsRow(functions.functions_of(*asked_functions(request, pk))).data)


def asked_functions(request: Request, pk: int) -> tuple[DeviceModel, list[functions.RangeDraft]]:
    """The model, and what a request says that it can do."""
    model = DeviceModel.objects.filter(pk=pk).first()
    if model is None:
        raise NotFound(f"There is no model {pk}.")
    drafts = [
        functions.RangeDraft(**{**row, "function": Function(row["function"])})
        for row in valid(ModelFunctionsBody(data=request.data))["ranges"]
    ]
    return model, drafts
