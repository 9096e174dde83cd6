"""The room Now: what waits for a decision, what moves, what comes, what wants attention."""

from datetime import timedelta
from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.agenda.api.coming import ComingView
from herald.agenda.coming import coming_up
from herald.agenda.keeping import kept_rows
from herald.agenda.rows import RowKind
from herald.attention.api.items import AttentionItem
from herald.attention.models import Item, ItemKind
from herald.fleet.models import Device
from herald.fleet.presence import HEARD_WITHIN
from herald.now.decisions import DECISIONS, decisions_about
from herald.now.pause_views import StandingPause, standing
from herald.now.troubles import troubles
from herald.people.permissions import WHOLE
from herald.rollouts.api.serializers import RolloutRow
from herald.rollouts.models import Rollout
from herald.rollouts.watch import overview
from herald.time import clock

#: items that Now shows elsewhere: as decisions, and as troubles above every room
SHOWN_ABOVE = (*DECISIONS, ItemKind.FLEET_SILENT, ItemKind.STOPPED_PART)


class Decision(serializers.Serializer[Any]):
    """Something that waits for a person. `kind`: halted, stuck or paused."""

    kind = serializers.CharField()
    rollout = serializers.IntegerField()
    title = serializers.CharField()
    detail = serializers.CharField()


class TroubleView(serializers.Serializer[Any]):
    """Something that is wrong with the system itself. `since` is real time."""

    kind = serializers.CharField()
    text = serializers.CharField()
    since = serializers.DateTimeField(allow_null=True)


class Readiness(serializers.Serializer[Any]):
    """Whether the system can do its work, and what keeps it from that."""

    ready = serializers.BooleanField()
    troubles = TroubleView(many=True)


class NowView(serializers.Serializer[Any]):
    """The state of everything, in brief. `counted_at` is of when those that were heard from, and the devices of what
    comes, were counted; null where they are of this moment."""

    now = serializers.DateTimeField()
    devices = serializers.IntegerField()
    heard = serializers.IntegerField()
    heard_within_minutes = serializers.IntegerField()
    counted_at = serializers.DateTimeField(allow_null=True)
    troubles = TroubleView(many=True)
    paused = StandingPause(allow_null=True)
    decisions = Decision(many=True)
    moving = RolloutRow(many=True)
    coming = ComingView(many=True)
    attention = AttentionItem(many=True)
    snoozed = serializers.IntegerField()
    zones = serializers.ListField(child=serializers.CharField())


class NowApiView(APIView):
    """What waits for a decision, what moves, what comes next, what wants attention."""

    within_limits = WHOLE

    @extend_schema(operation_id="now", responses=NowView)
    def get(self, request: Request) -> Response:
        now = clock.now()
        rollouts = overview.rows(list(Rollout.objects.listed().moving()), now)
        rows = kept_rows(RowKind.ZONE)
        heard = rows.known.heard
        if heard is None:
            heard = Device.objects.heard_since(now - HEARD_WITHIN).count()
        body = {
            "now": now,
            "devices": Device.objects.count(),
            "heard": heard,
            "counted_at": rows.counted_at,
            "heard_within_minutes": HEARD_WITHIN // timedelta(minutes=1),
            "troubles": troubles(),
            "paused": standing(),
            "decisions": decisions_about(rollouts),
            "moving": [r for r in rollouts if r["state"] in ("running", "launching")],
            "coming": coming_up(now=now, rows=rows),
            "attention": Item.objects.awake(now).listed().exclude(kind__in=SHOWN_ABOVE),
            "snoozed": Item.objects.asleep(now).count(),
            "zones": Device.objects.zones(),
        }
        return Response(NowView(body).data)


class ReadyView(APIView):
    """Whether every part works: for load balancers and watchdogs, without signing in."""

    permission_classes = (AllowAny,)
    authentication_classes = ()

    @extend_schema(operation_id="ready", responses={200: Readiness, 503: Readiness})
    def get(self, request: Request) -> Response:
        found = troubles()
        ready = all(t.ready for t in found)
        return Response(Readiness({"ready": ready, "troubles": found}).data, status=200 if ready else 503)
