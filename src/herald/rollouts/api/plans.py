"""Calls about ring plans."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.fields import StrictSerializer, valid
from herald.people.permissions import READING, person
from herald.rollouts.api.serializers import RingDraftBody
from herald.rollouts.api.views import read_rings
from herald.rollouts.compose import drafts, ring_plans
from herald.rollouts.models import RingKindChoice, RingPlan
from herald.time import clock


class PlanRing(serializers.Serializer[Any]):
    """A ring of a plan, as a draft takes it."""

    name = serializers.CharField()
    kind = serializers.ChoiceField(choices=RingKindChoice.choices)
    group_id = serializers.IntegerField(allow_null=True)
    share_pct = serializers.FloatField(allow_null=True)
    number = serializers.IntegerField(allow_null=True)
    confirmed_pct = serializers.FloatField()
    soak_minutes = serializers.IntegerField()
    max_unreached = serializers.IntegerField(allow_null=True)
    min_tried = serializers.IntegerField(allow_null=True, default=None)
    needs_approval = serializers.BooleanField()


class PlanVersionRow(serializers.Serializer[Any]):
    """A kept version of a plan's rings, and how many rollouts took them."""

    id = serializers.IntegerField()
    number = serializers.IntegerField()
    rings = PlanRing(many=True)
    kept_at = serializers.DateTimeField()
    kept_by = serializers.CharField(default=None, allow_null=True)
    used_by = serializers.IntegerField(source="rollouts.count")


class PlanRow(serializers.Serializer[Any]):
    """A ring plan with its versions, the newest first."""

    id = serializers.IntegerField()
    name = serializers.CharField()
    note = serializers.CharField()
    versions = PlanVersionRow(many=True)


class PlanBody(StrictSerializer):
    """Rings to keep; a name that there is makes its next version."""

    name = serializers.CharField(max_length=60)
    note = serializers.CharField(max_length=300, allow_blank=True, default="")
    rings = RingDraftBody(many=True)


class PlanListView(APIView):
    """Ring plans by name."""

    within_limits = READING

    @extend_schema(operation_id="ring_plans_list", responses=PlanRow(many=True))
    def get(self, request: Request) -> Response:
        found = RingPlan.objects.filter(archived=False).prefetch_related("versions__kept_by", "versions__rollouts")
        return Response(PlanRow(found.order_by("name"), many=True).data)

    @extend_schema(operation_id="ring_plans_save", request=PlanBody, responses={201: PlanRow})
    def post(self, request: Request) -> Response:
        body = valid(PlanBody(data=request.data))
        drafts.check_rings(read_rings(body["rings"]), "/rings")
        rings = [{**r, "group_id": r["group_id"].pk if r["group_id"] else None} for r in body["rings"]]
        version = ring_plans.save_ring_plan(
            body["name"], rings, note=body["note"] or None, actor=person(request), now=clock.now()
        )
        return Response(PlanRow(version.plan).data, status=201)


class PlanView(APIView):
    """One ring plan."""

    @extend_schema(operation_id="ring_plans_delete", responses={204: None})
    def delete(self, request: Request, plan_id: int) -> Response:
        ring_plans.delete_ring_plan(get_object_or_404(RingPlan, pk=plan_id), actor=person(request), now=clock.now())
        return Response(status=204)
