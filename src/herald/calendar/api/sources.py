"""Calls about calendars that freezes are read from, and freezes as a calendar."""

from typing import Any

from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.calendar import sources
from herald.calendar.icalendars import MOST_BYTES, freeze_event, write_calendar
from herald.calendar.models import UTC_CLOCK, CalendarSource, Freeze
from herald.calendar.services import held_by_any
from herald.fleet.models import Device, Site
from herald.groups.models import Group
from herald.http.errors import Invalid
from herald.http.fields import NamedThing, StrictSerializer, valid
from herald.people.permissions import person
from herald.time import clock


class SourceBody(StrictSerializer):
    """A calendar to read freezes from: `url` is read again and again, `text` is a file (RFC 5545)."""

    name = serializers.CharField(max_length=80)
    url = serializers.CharField(max_length=1000, allow_blank=True, default="")
    text = serializers.CharField(max_length=MOST_BYTES, allow_blank=True, trim_whitespace=False, default="")
    time_zone = serializers.CharField(max_length=64, default=UTC_CLOCK)
    read_every_minutes = serializers.IntegerField(min_value=15, max_value=10_080, default=60)
    everywhere = serializers.BooleanField(default=False)
    groups = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), many=True, default=list)
    sites = serializers.PrimaryKeyRelatedField(queryset=Site.objects.all(), many=True, default=list)


class SourceRow(serializers.ModelSerializer[CalendarSource]):
    """A calendar, when it was last read, and what was wrong the last time; `freezes` counts those not over."""

    groups = NamedThing(many=True)
    sites = NamedThing(many=True)
    created_by = serializers.CharField(default=None, allow_null=True)
    freezes = serializers.SerializerMethodField()

    class Meta:
        model = CalendarSource
        fields = (
            "id", "name", "url", "time_zone", "read_every_minutes", "everywhere", "groups", "sites", "created_by",
            "tried_at", "read_at", "last_error", "freezes",
        )  # fmt: skip

    def get_freezes(self, source: CalendarSource) -> int:
        return sum(f.ends_at > self.context["now"] for f in source.freezes.all())


class SourceEvent(serializers.Serializer[Any]):
    """A freeze as it stands in a calendar; `change` is new, changed, same or gone."""

    name = serializers.CharField()
    why = serializers.CharField()
    starts_at = serializers.DateTimeField()
    ends_at = serializers.DateTimeField()
    change = serializers.ChoiceField(choices=["new", "changed", "same", "gone"])


class SourcePreview(serializers.Serializer[Any]):
    """What reading a calendar would do: its freezes, how many devices each would hold, what is left out and why."""

    events = SourceEvent(many=True)
    devices = serializers.IntegerField()
    left_out = serializers.ListField(child=serializers.CharField())


class SourceListView(APIView):
    """Calendars that freezes are read from, by name."""

    @extend_schema(operation_id="calendar_sources_list", responses=SourceRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(_rows(list(CalendarSource.objects.listed())))

    @extend_schema(operation_id="calendar_sources_create", request=SourceBody, responses={201: SourceRow})
    def post(self, request: Request) -> Response:
        source = sources.save_source(_draft(request), actor=person(request), now=clock.now())
        return Response(_row(source.pk), status=201)


class SourcePreviewView(APIView):
    """What reading a calendar would do; nothing is kept."""

    @extend_schema(operation_id="calendar_sources_preview", request=SourceBody, responses=SourcePreview)
    def post(self, request: Request) -> Response:
        return Response(_preview(request, None))


class SourceChangePreviewView(APIView):
    """What reading another calendar in place of one would do; nothing is kept."""

    @extend_schema(operation_id="calendar_sources_change_preview", request=SourceBody, responses=SourcePreview)
    def post(self, request: Request, source_id: int) -> Response:
        return Response(_preview(request, get_object_or_404(CalendarSource, pk=source_id)))


class SourceView(APIView):
    """One calendar that freezes are read from."""

    @extend_schema(operation_id="calendar_sources_change", request=SourceBody, responses=SourceRow)
    def put(self, request: Request, source_id: int) -> Response:
        source = get_object_or_404(CalendarSource, pk=source_id)
        sources.save_source(_draft(request), actor=person(request), now=clock.now(), source=source)
        return Response(_row(source_id))

    @extend_schema(operation_id="calendar_sources_delete", responses={204: None})
    def delete(self, request: Request, source_id: int) -> Response:
        sources.delete_source(get_object_or_404(CalendarSource, pk=source_id), actor=person(request), now=clock.now())
        return Response(status=204)


class SourceReadAction(APIView):
    """Read an address now, whenever it is due. One that cannot be read changes no freeze, and says why."""

    @extend_schema(operation_id="calendar_sources_read", request=None, responses=SourceRow)
    def post(self, request: Request, source_id: int) -> Response:
        source = get_object_or_404(CalendarSource, pk=source_id)
        sources.read_again(source, actor=person(request), now=clock.now())
        return Response(_row(source_id))


class FreezeExportView(APIView):
    """All freezes as a calendar (RFC 5545)."""

    @extend_schema(operation_id="freezes_export", responses={(200, "text/calendar"): OpenApiTypes.STR})
    def get(self, request: Request) -> HttpResponse:
        events = [freeze_event(f, now=clock.now()) for f in Freeze.objects.order_by("starts_at", "id")]
        return calendar_file(write_calendar("Freezes", events), "freezes.ics")


def calendar_file(data: bytes, name: str) -> HttpResponse:
    """A calendar as an answer."""
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return HttpResponse(data, content_type="text/calendar; charset=utf-8", headers=headers)


def _draft(request: Request) -> sources.SourceDraft:
    body = valid(SourceBody(data=request.data))
    if "\x00" in body["text"]:
        raise Invalid("/text", "This is no calendar: it has a zero byte in it.")
    return sources.SourceDraft(**body)


def _preview(request: Request, source: CalendarSource | None) -> Any:
    draft, now = _draft(request), clock.now()
    read = sources.read_draft(draft, now=now)
    changes = sources.changes_by(source, read.events, now=now)
    marks = {e.uid: "new" for e in changes.new} | {e.uid: "changed" for e in changes.changed}
    rows: list[Any] = [{**e.__dict__, "change": marks.get(e.uid, "same")} for e in read.events]
    rows += [
        {"name": f.name, "why": f.why, "starts_at": f.starts_at, "ends_at": f.ends_at, "change": "gone"}
        for f in changes.gone
    ]
    held = Device.objects.filter(held_by_any(draft.everywhere, draft.groups, draft.sites), admission="admitted")
    rows.sort(key=lambda r: r["starts_at"])
    return SourcePreview({"events": rows, "devices": held.count(), "left_out": read.left_out}).data


def _row(source_id: int) -> Any:
    return _rows([CalendarSource.objects.listed().get(pk=source_id)])[0]


def _rows(found: list[CalendarSource]) -> Any:
    return SourceRow(found, many=True, context={"now": clock.now()}).data
