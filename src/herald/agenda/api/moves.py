"""Calls about what does not fit, and about moving what stands in the calendar."""

from collections.abc import Mapping
from dataclasses import asdict
from datetime import time
from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.agenda.conflicts import CalendarConflict, ConflictCode, conflicts_ahead
from herald.agenda.moves import Move, MoveKind, carry_out, consequences_of_move
from herald.http.fields import StrictSerializer, valid
from herald.people.permissions import WHOLE, person
from herald.rollouts.api.forecasts import MomentBand
from herald.rollouts.watch.sentence import title_of
from herald.time import clock

KINDS = [(k.value, k.value) for k in MoveKind]


class MovedFields(StrictSerializer):
    """What a move changes: of a rollout its window, caps, or the `order` of all open ones; of a schedule its
    `time_of_day`; of a freeze its ends, by minutes."""

    window_start = serializers.TimeField(allow_null=True, required=False)
    window_end = serializers.TimeField(allow_null=True, required=False)
    max_concurrent = serializers.IntegerField(min_value=1, max_value=1_000_000, required=False)
    max_concurrent_per_site = serializers.IntegerField(min_value=1, allow_null=True, required=False)
    max_starts_per_hour = serializers.IntegerField(min_value=1, allow_null=True, required=False)
    order = serializers.ListField(child=serializers.IntegerField(), max_length=1000, required=False)
    time_of_day = serializers.TimeField(required=False)
    start_by = serializers.IntegerField(min_value=-600_000, max_value=600_000, required=False)
    end_by = serializers.IntegerField(min_value=-600_000, max_value=600_000, required=False)

    def to_representation(self, instance: Mapping[str, Any]) -> dict[str, Any]:
        """Only what is changed: a field that is not there stays as it is, one that is empty is emptied."""
        return dict(instance)


class MoveBody(StrictSerializer):
    """A change of one object in the calendar."""

    kind = serializers.ChoiceField(choices=KINDS)
    id = serializers.IntegerField()
    change = MovedFields()


class MoveRow(serializers.Serializer[Any]):
    """A move that can be sent as it is; `words` says what it does, empty for one that takes another back."""

    kind = serializers.ChoiceField(choices=KINDS)
    id = serializers.IntegerField()
    change = MovedFields()
    words = serializers.CharField()


class ConflictInCalendar(serializers.Serializer[Any]):
    """Something that does not fit: the object that it is about, how many devices, and moves of which each fixes it."""

    key = serializers.CharField()
    code = serializers.ChoiceField(choices=[c.value for c in ConflictCode])
    kind = serializers.ChoiceField(choices=KINDS)
    id = serializers.IntegerField()
    words = serializers.CharField()
    devices = serializers.IntegerField()
    fixes = MoveRow(many=True)


class RolloutEnd(serializers.Serializer[Any]):
    """The end that is expected of a rollout, before a move and after it."""

    id = serializers.IntegerField()
    name = serializers.CharField()
    before = MomentBand()
    after = MomentBand()


class FiringMoved(serializers.Serializer[Any]):
    """The next firing in a zone, before a move and after it."""

    zone = serializers.CharField()
    devices = serializers.IntegerField()
    before = serializers.DateTimeField(allow_null=True)
    after = serializers.DateTimeField(allow_null=True)


class MovePreview(serializers.Serializer[Any]):
    """What a move would do. `new_conflicts` are those that it causes, `fixed_conflicts` those that are gone then."""

    devices = serializers.IntegerField()
    rollouts = RolloutEnd(many=True)
    firings = FiringMoved(many=True)
    new_conflicts = ConflictInCalendar(many=True)
    fixed_conflicts = ConflictInCalendar(many=True)


class MoveDone(serializers.Serializer[Any]):
    """The move that takes the one that was made back."""

    undo = MoveRow()


class CalendarConflictsView(APIView):
    """What does not fit, of what is planned for the next weeks."""

    within_limits = WHOLE

    @extend_schema(operation_id="calendar_conflicts", responses=ConflictInCalendar(many=True))
    def get(self, request: Request) -> Response:
        return Response(ConflictInCalendar([_row(c) for c in conflicts_ahead(now=clock.now())], many=True).data)


class MovePreviewView(APIView):
    """What a move would do to forecasts, firings and conflicts; nothing is changed."""

    @extend_schema(operation_id="calendar_move_preview", request=MoveBody, responses=MovePreview)
    def post(self, request: Request) -> Response:
        now = clock.now()
        told, before, after = consequences_of_move(
            _move(request), actor=person(request), now=now, look=lambda: {c.key: c for c in conflicts_ahead(now=now)}
        )
        body = {
            "devices": told.devices,
            "rollouts": [
                {
                    "id": e.rollout.pk,
                    "name": title_of(e.rollout),
                    "before": e.before,
                    "after": e.after,
                }
                for e in told.rollouts
            ],
            "firings": [asdict(f) for f in told.firings],
            "new_conflicts": [_row(c) for key, c in after.items() if key not in before],
            "fixed_conflicts": [_row(c) for key, c in before.items() if key not in after],
        }
        return Response(MovePreview(body).data)


class MoveAction(APIView):
    """Make a move, by the service that changes its object anywhere else."""

    @extend_schema(operation_id="calendar_move", request=MoveBody, responses=MoveDone)
    def post(self, request: Request) -> Response:
        undo = carry_out(_move(request), actor=person(request), now=clock.now())
        return Response(MoveDone({"undo": _move_row(undo)}).data)


def _move(request: Request) -> Move:
    body = valid(MoveBody(data=request.data))
    return Move(kind=MoveKind(body["kind"]), id=body["id"], change=dict(body["change"]))


def _row(conflict: CalendarConflict) -> dict[str, Any]:
    return {**conflict.__dict__, "fixes": [_move_row(m) for m in conflict.fixes]}


def _move_row(move: Move) -> dict[str, Any]:
    return {"kind": move.kind.value, "id": move.id, "change": _plain(move.change), "words": move.words}


def _plain(change: Mapping[str, Any]) -> dict[str, Any]:
    """A change as it is sent: times as texts, and only what it changes."""
    return {name: f"{value:%H:%M}" if isinstance(value, time) else value for name, value in change.items()}
