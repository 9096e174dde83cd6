"""Calls about calendar feeds of one's own, and the feeds themselves."""

from typing import Any

from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.agenda.feed import FeedDraft, make_feed, read_feed, revoke_feed
from herald.agenda.models import Feed, FeedPart
from herald.agenda.rows import MOST_ROWS, RowKind
from herald.calendar.api.sources import calendar_file
from herald.http.fields import StrictSerializer, valid
from herald.people.models import Ability
from herald.people.permissions import WHOLE, Tokens, person
from herald.time import clock


class FeedBody(StrictSerializer):
    """What a feed holds; of all rows, where none is named."""

    name = serializers.CharField(max_length=80)
    parts = serializers.ListField(child=serializers.ChoiceField(choices=FeedPart.choices), max_length=4)
    rows = serializers.ChoiceField(choices=[(k.value, k.value) for k in RowKind], default=RowKind.ZONE.value)
    keys = serializers.ListField(child=serializers.CharField(max_length=64), max_length=MOST_ROWS, default=list)


class FeedRow(serializers.ModelSerializer[Feed]):
    """A feed of one's own, and when a program last read it."""

    class Meta:
        model = Feed
        fields = ("id", "name", "parts", "rows", "keys", "created_at", "last_read_at")


class NewFeed(FeedRow):
    """A feed that was made just now; `path` is its secret address, which is told only this once."""

    path = serializers.CharField()

    class Meta(FeedRow.Meta):
        fields = (*FeedRow.Meta.fields, "path")


class FeedListView(APIView):
    """Calendar feeds of one's own."""

    within_limits = WHOLE
    by_token = Tokens.UNLIMITED
    needs = Ability.OWN

    @extend_schema(operation_id="calendar_feeds_list", responses=FeedRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(FeedRow(Feed.objects.filter(owner=person(request)).order_by("name"), many=True).data)

    @extend_schema(operation_id="calendar_feeds_create", request=FeedBody, responses={201: NewFeed})
    def post(self, request: Request) -> Response:
        body: dict[str, Any] = valid(FeedBody(data=request.data))
        draft = FeedDraft(name=body["name"], parts=body["parts"], rows=RowKind(body["rows"]), keys=body["keys"])
        feed, secret = make_feed(draft, owner=person(request), now=clock.now())
        return Response({**FeedRow(feed).data, "path": f"/api/v1/feeds/{secret}.ics"}, status=201)


class FeedView(APIView):
    """One feed of one's own."""

    within_limits = WHOLE
    by_token = Tokens.UNLIMITED
    needs = Ability.OWN

    @extend_schema(operation_id="calendar_feeds_revoke", responses={204: None})
    def delete(self, request: Request, feed_id: int) -> Response:
        feed = get_object_or_404(Feed, pk=feed_id, owner=person(request))
        revoke_feed(feed, actor=person(request), now=clock.now())
        return Response(status=204)


class FeedFileView(APIView):
    """A feed, for whoever knows its address: the secret in it stands for signing in."""

    permission_classes = (AllowAny,)
    authentication_classes = ()

    @extend_schema(operation_id="calendar_feed", responses={(200, "text/calendar"): OpenApiTypes.STR})
    def get(self, request: Request, secret: str) -> HttpResponse:
        answer = calendar_file(read_feed(secret, now=clock.now()), "brisk-herald.ics")
        answer["Cache-Control"] = "private, max-age=300"
        return answer
