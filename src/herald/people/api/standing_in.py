"""Calls by which an administrator stands in for an approver whom nobody can reach."""

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.fields import StrictSerializer, valid
from herald.people import standing_in
from herald.people.api.views import Me
from herald.people.models import Ability
from herald.people.permissions import Tokens, person
from herald.time import clock


class StandInBody(StrictSerializer):
    """Why no approver is asked. Every administrator reads it."""

    reason = serializers.CharField(max_length=300)


class OwnStandInView(APIView):
    """Standing in for an approver: for an hour, or until one says that it is over."""

    by_token = Tokens.NONE
    needs = Ability.ADMINISTER

    @extend_schema(operation_id="own_stand_in", request=StandInBody, responses=Me)
    def post(self, request: Request) -> Response:
        user = person(request)
        standing_in.stand_in(user, reason=valid(StandInBody(data=request.data))["reason"], now=clock.now())
        return Response(Me(user).data)

    @extend_schema(operation_id="own_stand_in_end", request=None, responses={200: Me})
    def delete(self, request: Request) -> Response:
        user = person(request)
        standing_in.end(user, now=clock.now())
        return Response(Me(user).data)
