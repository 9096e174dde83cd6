"""Calls that pause everything, and take that back."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.fields import StrictSerializer, valid
from herald.now import pause
from herald.people.models import Ability
from herald.people.permissions import READING, person
from herald.time import clock


class WhatRuns(serializers.Serializer[Any]):
    """What would be paused: rollouts, launches that have not begun, commands that fire; and how many devices have begun
    an order of theirs and will finish it."""

    rollouts = serializers.IntegerField()
    launching = serializers.IntegerField()
    schedules = serializers.IntegerField()
    finishing = serializers.IntegerField()


class StandingPause(serializers.Serializer[Any]):
    """A pause of everything that has not been taken back: since when, by whom and why, what it holds, and how many
    devices wait in its rollouts."""

    began_at = serializers.DateTimeField(source="pause.began_at")
    paused_by = serializers.CharField(source="pause.paused_by.name", default="", help_text="empty for a script")
    reason = serializers.CharField(source="pause.reason")
    rollouts = serializers.IntegerField()
    schedules = serializers.IntegerField()
    waiting = serializers.IntegerField()


class PauseView(serializers.Serializer[Any]):
    """What runs, and what is paused as a whole; null where nothing is."""

    runs = WhatRuns()
    standing = StandingPause(allow_null=True)


class PauseBody(StrictSerializer):
    """Why everything is paused."""

    reason = serializers.CharField(max_length=300)


class PauseOutcome(serializers.Serializer[Any]):
    """What was done: rollouts, launches taken back, commands; and in words what could not be."""

    rollouts = serializers.IntegerField()
    launches = serializers.IntegerField()
    schedules = serializers.IntegerField()
    failed = serializers.ListField(child=serializers.CharField())


def standing() -> dict[str, Any] | None:
    """The pause that stands, for `StandingPause`."""
    held = pause.held()
    if held is None:
        return None
    return {
        "pause": held.pause,
        "rollouts": len(held.rollouts),
        "schedules": len(held.schedules),
        "waiting": held.waiting,
    }


class PauseEverythingView(APIView):
    """All that runs, paused in one press."""

    within_limits = READING
    needs = Ability.STOP

    @extend_schema(operation_id="pause_read", responses=PauseView)
    def get(self, request: Request) -> Response:
        return Response(PauseView({"runs": pause.scope(), "standing": standing()}).data)

    @extend_schema(operation_id="pause_everything", request=PauseBody, responses=PauseOutcome)
    def post(self, request: Request) -> Response:
        reason = valid(PauseBody(data=request.data))["reason"]
        return Response(
            PauseOutcome(pause.pause_everything(reason=reason, actor=person(request), now=clock.now())).data
        )


class ResumeEverythingView(APIView):
    """What was paused as a whole goes on; what was paused before stays paused."""

    @extend_schema(operation_id="pause_resume", request=None, responses=PauseOutcome)
    def post(self, request: Request) -> Response:
        return Response(PauseOutcome(pause.resume_everything(actor=person(request), now=clock.now())).data)
