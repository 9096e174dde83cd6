"""The call that says what a model can do."""

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.commands.capabilities import set_capabilities
from herald.fleet.api.capabilities import ModelCapabilitiesBody, ModelCapabilitiesRow, asked_capabilities
from herald.groups.api.agreement import agreement_of
from herald.people.permissions import person
from herald.time import clock


class ModelCapabilitiesView(APIView):
    """Say what a model can do."""

    @extend_schema(operation_id="capabilities_set", request=ModelCapabilitiesBody, responses=ModelCapabilitiesRow)
    def put(self, request: Request, pk: int) -> Response:
        model, drafts = asked_capabilities(request, pk)
        done = set_capabilities(model, drafts, agreement=agreement_of(request), actor=person(request), now=clock.now())
        return Response(ModelCapabilitiesRow(done).data)
