"""Calls about freezes."""

from typing import Any

from django.db.models import Count
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.calendar import services
from herald.calendar.models import UTC_CLOCK, Freeze
from herald.fleet.models import Device, Site
from herald.groups.models import Group
from herald.http.fields import NamedThing, StrictSerializer, TimeSpan, valid
from herald.people.permissions import READING, person
from herald.time import clock


class FreezeBody(StrictSerializer):
    """A freeze: nothing is installed on these devices in [starts_at, ends_at), and where it repeats, on the same days
    and at the same hours of each year after, by the clock of `time_zone`."""

    name = serializers.CharField(max_length=80)
    why = serializers.CharField(max_length=300, allow_blank=True, default="")
    starts_at = serializers.DateTimeField()
    ends_at = serializers.DateTimeField()
    repeats_yearly = serializers.BooleanField(default=False)
    time_zone = serializers.CharField(max_length=64, default=UTC_CLOCK)
    everywhere = serializers.BooleanField(default=False)
    groups = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), many=True, default=list)
    sites = serializers.PrimaryKeyRelatedField(queryset=Site.objects.all(), many=True, default=list)


class FreezeRow(serializers.ModelSerializer[Freeze]):
    """A freeze; `devices` counts the devices that it holds now, `next` is the time that holds now or comes next, and
    `source` the calendar that it was read from."""

    groups = NamedThing(many=True)
    sites = NamedThing(many=True)
    created_by = serializers.CharField(default=None, allow_null=True)
    source = NamedThing(allow_null=True)
    devices = serializers.SerializerMethodField()
    next = serializers.SerializerMethodField()

    class Meta:
        model = Freeze
        fields = (
            "id", "name", "why", "starts_at", "ends_at", "repeats_yearly", "time_zone", "everywhere", "groups", "sites",
            "created_by", "source", "devices", "next",
        )  # fmt: skip

    @extend_schema_field(TimeSpan(allow_null=True))
    def get_next(self, freeze: Freeze) -> Any:
        found = services.next_time(freeze, self.context["now"])
        return TimeSpan(found).data if found else None

    @extend_schema_field(serializers.IntegerField())
    def get_devices(self, freeze: Freeze) -> int:
        counted: dict[int, int] = self.context["devices"]
        return counted[freeze.pk]


#: far more than anybody plans; a longer list would be of those that are over
MOST_LISTED = 1000


class FreezeListView(APIView):
    """Freezes, those that are over last."""

    within_limits = READING

    @extend_schema(operation_id="freezes_list", responses=FreezeRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(_rows(list(Freeze.objects.listed()[:MOST_LISTED])))

    @extend_schema(operation_id="freezes_create", request=FreezeBody, responses={201: FreezeRow})
    def post(self, request: Request) -> Response:
        freeze = services.save_freeze(_draft(request), actor=person(request), now=clock.now())
        return Response(_row(freeze.pk), status=201)


class FreezeView(APIView):
    """One freeze."""

    @extend_schema(operation_id="freezes_change", request=FreezeBody, responses=FreezeRow)
    def put(self, request: Request, freeze_id: int) -> Response:
        freeze = get_object_or_404(Freeze, pk=freeze_id)
        services.save_freeze(_draft(request), actor=person(request), now=clock.now(), freeze=freeze)
        return Response(_row(freeze_id))

    @extend_schema(operation_id="freezes_delete", responses={204: None})
    def delete(self, request: Request, freeze_id: int) -> Response:
        services.delete_freeze(get_object_or_404(Freeze, pk=freeze_id), actor=person(request), now=clock.now())
        return Response(status=204)


def _draft(request: Request) -> services.FreezeDraft:
    return services.FreezeDraft(**valid(FreezeBody(data=request.data)))


def _row(freeze_id: int) -> Any:
    return _rows([Freeze.objects.listed().get(pk=freeze_id)])[0]


def _rows(freezes: list[Freeze]) -> Any:
    """Freezes with how many admitted devices each holds: counted in one question, however many freezes there are."""
    counts = {str(f.pk): Count("pk", filter=services.held_by(f)) for f in freezes}
    counted = Device.objects.filter(admission="admitted").aggregate(**counts) if counts else {}
    devices = {int(pk): n for pk, n in counted.items()}
    return FreezeRow(freezes, many=True, context={"devices": devices, "now": clock.now()}).data
