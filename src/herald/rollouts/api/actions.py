"""Calls that step into a rollout: all of it, a gate, or single devices."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.deliveries.models import Delivery
from herald.http.fields import valid
from herald.people.models import Ability
from herald.people.permissions import WHOLE, person
from herald.rollouts.api.serializers import Effect, RolloutDetail
from herald.rollouts.api.shared import detail_of, effect, find_rollout
from herald.rollouts.api.stepping_serializers import (
    DevicesBody,
    DevicesReasonBody,
    DifferenceRow,
    EditOpenBody,
    ExtensionView,
    GateBody,
    GroupsBody,
    OrderBody,
    RingsAheadBody,
    RingsOutcomeView,
    Touched,
    WordsBody,
)
from herald.rollouts.api.views import read_rings
from herald.rollouts.engine import audience_sync
from herald.rollouts.intervene import devices, edit, lifecycle, rings_ahead, rollback
from herald.time import clock


class PauseAction(APIView):
    """Offer nothing new for now."""

    within_limits = WHOLE
    needs = Ability.STOP

    @extend_schema(operation_id="rollouts_pause", request=None, responses=Effect)
    def post(self, request: Request, rollout_id: int) -> Response:
        finishing = lifecycle.pause(find_rollout(rollout_id), actor=person(request), now=clock.now())
        return effect(rollout_id, finishing=finishing)


class ResumeAction(APIView):
    """Go on after a pause or a halt."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_resume", request=None, responses=Effect)
    def post(self, request: Request, rollout_id: int) -> Response:
        lifecycle.resume(find_rollout(rollout_id), actor=person(request), now=clock.now())
        return effect(rollout_id, finishing=Delivery.objects.in_hand_of_rollout(rollout_id))


class StopAction(APIView):
    """End it for good."""

    within_limits = WHOLE
    needs = Ability.STOP

    @extend_schema(operation_id="rollouts_stop", request=None, responses=Effect)
    def post(self, request: Request, rollout_id: int) -> Response:
        withdrawn, finishing = lifecycle.stop(find_rollout(rollout_id), actor=person(request), now=clock.now())
        return effect(rollout_id, withdrawn=withdrawn, finishing=finishing)


class OpenGateAction(APIView):
    """Open the next ring although its gate is not met."""

    within_limits = WHOLE
    needs = Ability.APPROVE

    @extend_schema(operation_id="rollouts_open_gate", request=None, responses=Effect)
    def post(self, request: Request, rollout_id: int) -> Response:
        lifecycle.open_gate(find_rollout(rollout_id), actor=person(request), now=clock.now())
        return effect(rollout_id, finishing=Delivery.objects.in_hand_of_rollout(rollout_id))


class ApproveGateAction(APIView):
    """Agree that the ring after a gate may open; not for whom launched the rollout."""

    within_limits = WHOLE
    needs = Ability.APPROVE

    @extend_schema(operation_id="rollouts_approve_gate", request=GateBody, responses=RolloutDetail)
    def post(self, request: Request, rollout_id: int) -> Response:
        position = valid(GateBody(data=request.data))["ring"]
        lifecycle.approve_gate(find_rollout(rollout_id), position=position, actor=person(request), now=clock.now())
        return Response(detail_of(rollout_id))


class ApproveOverrideAction(APIView):
    """Agree that a rollout goes on in freezes; not for whom set that, or launched it."""

    within_limits = WHOLE
    needs = Ability.APPROVE

    @extend_schema(operation_id="rollouts_approve_override", request=None, responses=RolloutDetail)
    def post(self, request: Request, rollout_id: int) -> Response:
        lifecycle.approve_override(find_rollout(rollout_id), actor=person(request), now=clock.now())
        return Response(detail_of(rollout_id))


class RankAction(APIView):
    """The order of the open rollouts."""

    @extend_schema(operation_id="rollouts_order", request=OrderBody, responses={204: None})
    def put(self, request: Request) -> Response:
        order = valid(OrderBody(data=request.data))["order"]
        lifecycle.order_by_rank(order, actor=person(request), now=clock.now())
        return Response(status=204)


class RollBackAction(APIView):
    """Write down the rollout that gives each changed device the version it had; it is not launched."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_roll_back", request=None, responses={201: RolloutDetail})
    def post(self, request: Request, rollout_id: int) -> Response:
        draft = rollback.roll_back(find_rollout(rollout_id), actor=person(request), now=clock.now())
        return Response(detail_of(draft.pk), status=201)


class ExtendPreviewView(APIView):
    """What extending a rollout to more groups would do."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="rollouts_extend_preview", request=GroupsBody, responses=ExtensionView)
    def post(self, request: Request, rollout_id: int) -> Response:
        groups = valid(GroupsBody(data=request.data))["groups"]
        return Response(
            ExtensionView(audience_sync.preview_extension(find_rollout(rollout_id), groups, now=clock.now())).data
        )


class ExtendAction(APIView):
    """Let the members of more groups take part; nothing is sent again to those that have it."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_extend", request=GroupsBody, responses=ExtensionView)
    def post(self, request: Request, rollout_id: int) -> Response:
        groups = valid(GroupsBody(data=request.data))["groups"]
        told = audience_sync.extend(find_rollout(rollout_id), groups, actor=person(request), now=clock.now())
        return Response(ExtensionView(told).data)


class ExpediteAction(APIView):
    """Let devices go before their ring opens."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_expedite", request=DevicesBody, responses=Touched)
    def post(self, request: Request, rollout_id: int) -> Response:
        names = valid(DevicesBody(data=request.data))["devices"]
        return _touched(devices.expedite(find_rollout(rollout_id), names, actor=person(request), now=clock.now()))


class RetryAction(APIView):
    """Give failed or expired devices another attempt."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_retry", request=DevicesBody, responses=Touched)
    def post(self, request: Request, rollout_id: int) -> Response:
        names = valid(DevicesBody(data=request.data))["devices"]
        return _touched(devices.retry(find_rollout(rollout_id), names, actor=person(request), now=clock.now()))


class SkipAction(APIView):
    """Take devices out of an open rollout."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_skip", request=DevicesReasonBody, responses=Touched)
    def post(self, request: Request, rollout_id: int) -> Response:
        asked = valid(DevicesReasonBody(data=request.data))
        done = devices.skip(
            find_rollout(rollout_id), asked["devices"], reason=asked["reason"], actor=person(request), now=clock.now()
        )
        return _touched(done)


class EditOpenPreview(APIView):
    """What a change of what is ahead would do; changes nothing."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="rollouts_edit_open_preview", request=EditOpenBody, responses=DifferenceRow(many=True))
    def post(self, request: Request, rollout_id: int) -> Response:
        changes, rings = _ahead(request)
        return Response(
            DifferenceRow(edit.differences(find_rollout(rollout_id), changes, rings, now=clock.now()), many=True).data
        )


class EditOpenAction(APIView):
    """Change what is ahead of an open rollout."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_edit_open", request=EditOpenBody, responses=DifferenceRow(many=True))
    def post(self, request: Request, rollout_id: int) -> Response:
        changes, rings = _ahead(request)
        told = edit.edit_open_rollout(find_rollout(rollout_id), changes, rings, actor=person(request), now=clock.now())
        return Response(DifferenceRow(told, many=True).data)


class RingsAheadPreview(APIView):
    """What having other rings ahead would do; changes nothing."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="rollouts_rings_ahead_preview", request=RingsAheadBody, responses=RingsOutcomeView)
    def post(self, request: Request, rollout_id: int) -> Response:
        told = rings_ahead.preview_rings_ahead(find_rollout(rollout_id), _rings(request), now=clock.now())
        return Response(RingsOutcomeView(told).data)


class RingsAheadView(APIView):
    """Put these rings in the place of all that have not opened."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_rings_ahead", request=RingsAheadBody, responses=RingsOutcomeView)
    def put(self, request: Request, rollout_id: int) -> Response:
        told = rings_ahead.change_rings_ahead(
            find_rollout(rollout_id), _rings(request), actor=person(request), now=clock.now()
        )
        return Response(RingsOutcomeView(told).data)


class WordsView(APIView):
    """Name a rollout, say why it is there and where that is written down; at any time."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_words", request=WordsBody, responses=RolloutDetail)
    def put(self, request: Request, rollout_id: int) -> Response:
        words = valid(WordsBody(data=request.data))
        lifecycle.set_words(find_rollout(rollout_id), **words, actor=person(request), now=clock.now())
        return Response(detail_of(rollout_id))


def _rings(request: Request) -> list[rings_ahead.RingAhead]:
    rings = valid(RingsAheadBody(data=request.data))["rings"]
    ids = [ring.pop("id") for ring in rings]
    return [rings_ahead.RingAhead(id=pk, draft=draft) for pk, draft in zip(ids, read_rings(rings), strict=True)]


def _ahead(request: Request) -> tuple[dict[str, Any], dict[int, dict[str, Any]]]:
    body = valid(EditOpenBody(data=request.data))
    rings = {ring.pop("position"): dict(ring) for ring in body.pop("rings")}
    return body, rings


def _touched(devices: int) -> Response:
    return Response(Touched({"devices": devices}).data)
