"""The call that says what a model can do."""

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.access.permissions import person
from herald.clock.source import clock
from herald.commands.functions import set_functions
from herald.fleet.api.functions import ModelFunctionsBody, ModelFunctionsRow, asked_functions
from herald.groups.api.agreement import agreement_of


class ModelFunctionsView(APIView):
    """Say what a model can do."""

    @extend_schema(operation_id="functions_set", request=ModelFunctionsBody, responses=ModelFunctionsRow)
    def put(self, request: Request, pk: int) -> Response:
        model, drafts = asked_functions(request, pk)
        done = set_functions(model, drafts, agreement=agreement_of(request), actor=person(request), now=clock.now())
        return Response(ModelFunctionsRow(done).data)
