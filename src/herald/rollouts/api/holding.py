"""Calls about what failed devices share, and about holding devices back."""

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.fields import valid
from herald.people.permissions import WHOLE, person
from herald.rollouts.api.shared import find_rollout
from herald.rollouts.api.stepping_serializers import (
    CommonCausesRow,
    HoldBody,
    HoldEffect,
    HoldQuestion,
    ReleaseEffect,
)
from herald.rollouts.intervene import holds
from herald.time import clock


class CommonCausesView(APIView):
    """What the failed devices of a rollout share."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_common_causes", responses=CommonCausesRow)
    def get(self, request: Request, rollout_id: int) -> Response:
        return Response(CommonCausesRow(holds.common_causes(find_rollout(rollout_id), now=clock.now())).data)


class HoldPreviewView(APIView):
    """What holding devices back would do."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="rollouts_hold_preview", request=HoldQuestion, responses=HoldEffect)
    def post(self, request: Request, rollout_id: int) -> Response:
        asked = valid(HoldQuestion(data=request.data))
        told = holds.preview_hold(find_rollout(rollout_id), rule=asked["rule"], names=asked["devices"], now=clock.now())
        return Response(HoldEffect(told).data)


class HoldAction(APIView):
    """Hold devices back until they are released."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_hold", request=HoldBody, responses=HoldEffect)
    def post(self, request: Request, rollout_id: int) -> Response:
        asked = valid(HoldBody(data=request.data))
        done = holds.hold(
            find_rollout(rollout_id),
            rule=asked["rule"],
            names=asked["devices"],
            reason=asked["reason"],
            actor=person(request),
            now=clock.now(),
        )
        return Response(HoldEffect(done).data)


class ReleaseAction(APIView):
    """Let held devices go on."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_release", request=HoldQuestion, responses=ReleaseEffect)
    def post(self, request: Request, rollout_id: int) -> Response:
        asked = valid(HoldQuestion(data=request.data))
        released = holds.release(
            find_rollout(rollout_id), rule=asked["rule"], names=asked["devices"], actor=person(request), now=clock.now()
        )
        return Response(ReleaseEffect({"released": released}).data)
