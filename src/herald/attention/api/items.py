"""Calls about attention items: the lists of those that are open, put off and over, and what people do with them."""

from datetime import datetime
from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.attention import handling
from herald.attention.models import Item, ItemKind
from herald.attention.querysets import ItemQuerySet
from herald.http.errors import Invalid
from herald.http.fields import StrictSerializer, valid
from herald.people.models import Ability, User
from herald.people.permissions import WHOLE, person
from herald.record.api.comments import CommentBody, CommentRow, CommentsView
from herald.record.models import Kind
from herald.time import clock

#: of those that are over, the latest so many are shown
MOST_CLOSED = 200
STATES = ("open", "snoozed", "closed")


class NamedPerson(serializers.Serializer[Any]):
    """A person, by name and e-mail address."""

    name = serializers.CharField()
    email = serializers.CharField()


class SharedCause(serializers.Serializer[Any]):
    """A condition that many of an item’s devices hold and few others do; how many, in words."""

    rule = serializers.CharField()
    words = serializers.CharField()


class AttentionItem(serializers.Serializer[Any]):
    """An attention item. `count` and `rule` where it is about devices; otherwise the object it is about.

    `shared` is what its devices share and others do not, as of `shared_at`, which is null where it was not looked
    at. It is for the kinds silent, low-battery and no-firmware.
    """

    id = serializers.IntegerField()
    kind = serializers.ChoiceField(choices=ItemKind.choices)
    text = serializers.CharField(source="cause")
    count = serializers.IntegerField(allow_null=True)
    rule = serializers.CharField()
    object_kind = serializers.CharField()
    object_id = serializers.IntegerField()
    shared = SharedCause(many=True)
    shared_at = serializers.DateTimeField(allow_null=True)
    opened_at = serializers.DateTimeField()
    changed_at = serializers.DateTimeField()
    closed_at = serializers.DateTimeField(allow_null=True)
    acknowledged_at = serializers.DateTimeField(allow_null=True)
    acknowledged_by = NamedPerson(allow_null=True)
    assigned_to = NamedPerson(allow_null=True)
    snoozed_until = serializers.DateTimeField(allow_null=True)


class TimeToClose(serializers.Serializer[Any]):
    """How long items of a kind were open, by the median in seconds, of those closed within thirty days."""

    kind = serializers.ChoiceField(choices=ItemKind.choices)
    closed = serializers.IntegerField()
    seconds = serializers.FloatField()


class AttentionAnswer(serializers.Serializer[Any]):
    """Items of one state, and how many are open and put off; who may look after one; how long each kind takes."""

    items = AttentionItem(many=True)
    open = serializers.IntegerField()
    snoozed = serializers.IntegerField()
    people = NamedPerson(many=True)
    times_to_close = TimeToClose(many=True)


class AssignBody(StrictSerializer):
    """Who looks after it, by e-mail address; null for nobody."""

    to = serializers.EmailField(allow_null=True)


class SnoozeBody(StrictSerializer):
    """Until when it is put off; null shows it again."""

    until = serializers.DateTimeField(allow_null=True)


class AttentionListView(APIView):
    """What wants attention: open, put off, or over."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="attention_list",
        responses=AttentionAnswer,
        parameters=[
            OpenApiParameter("state", enum=list(STATES), description="open where it is missing"),
            OpenApiParameter("kind", enum=ItemKind.values, description="of one kind only"),
            OpenApiParameter("mine", bool, description="only those that you look after"),
        ],
    )
    def get(self, request: Request) -> Response:
        now = clock.now()
        found = _of_state(request.query_params.get("state", "open"), now)
        if kind := request.query_params.get("kind"):
            if kind not in ItemKind.values:
                raise Invalid("/kind", f"Kinds are {', '.join(ItemKind.values)}.")
            found = found.of_kinds([kind])
        if request.query_params.get("mine", "").lower() in ("true", "1"):
            found = found.filter(assigned_to=person(request))
        answer = {
            "items": found.listed()[:MOST_CLOSED],
            "open": Item.objects.awake(now).count(),
            "snoozed": Item.objects.asleep(now).count(),
            "people": [u for u in User.objects.filter(is_active=True).order_by("name") if u.may(Ability.COMMENT)],
            "times_to_close": [
                {"kind": kind, "closed": n, "seconds": seconds} for kind, n, seconds in handling.times_to_close(now=now)
            ],
        }
        return Response(AttentionAnswer(answer).data)


class AcknowledgeAction(APIView):
    """Somebody knows of it."""

    within_limits = WHOLE
    needs = Ability.COMMENT

    @extend_schema(operation_id="attention_acknowledge", request=None, responses=AttentionItem)
    def post(self, request: Request, item_id: int) -> Response:
        return Response(AttentionItem(handling.acknowledge(item_id, actor=person(request), now=clock.now())).data)


class AssignAction(APIView):
    """Somebody looks after it, or nobody any more."""

    within_limits = WHOLE
    needs = Ability.COMMENT

    @extend_schema(operation_id="attention_assign", request=AssignBody, responses=AttentionItem)
    def post(self, request: Request, item_id: int) -> Response:
        email = valid(AssignBody(data=request.data))["to"]
        to = User.objects.filter(email__iexact=email).first() if email else None
        if email and to is None:
            raise Invalid("/to", f"Nobody has the address {email}.")
        return Response(AttentionItem(handling.assign(item_id, to, actor=person(request), now=clock.now())).data)


class SnoozeAction(APIView):
    """It is put off until a moment, or shown again."""

    within_limits = WHOLE
    needs = Ability.COMMENT

    @extend_schema(operation_id="attention_snooze", request=SnoozeBody, responses=AttentionItem)
    def post(self, request: Request, item_id: int) -> Response:
        until = valid(SnoozeBody(data=request.data))["until"]
        return Response(AttentionItem(handling.snooze(item_id, until, actor=person(request), now=clock.now())).data)


class AttentionCommentsView(CommentsView):
    """What people said about an attention item."""

    within_limits = WHOLE
    kind = Kind.ATTENTION

    def check(self, object_id: int) -> None:
        get_object_or_404(Item, pk=object_id)

    @extend_schema(operation_id="attention_comments", responses=CommentRow(many=True))
    def get(self, request: Request, item_id: int) -> Response:
        return self.listed(item_id)

    @extend_schema(operation_id="attention_comment", request=CommentBody, responses={201: CommentRow})
    def post(self, request: Request, item_id: int) -> Response:
        return self.added(request, item_id)


def _of_state(state: str, now: datetime) -> ItemQuerySet:
    found = {"open": Item.objects.awake(now), "snoozed": Item.objects.asleep(now), "closed": Item.objects.closed()}
    if state not in found:
        raise Invalid("/state", f"States are {', '.join(STATES)}.")
    return found[state]
