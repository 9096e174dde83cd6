"""Calls about the record."""

from typing import Any

from django.http.response import HttpResponseBase
from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.export import CSV, JSON_LINES, XLSX, Table, as_asked, documented
from herald.http.fields import read_limit, read_moment, read_number
from herald.people.models import User
from herald.people.permissions import WHOLE
from herald.record.models import Kind, RecordEntry, RecordQuerySet

#: who acts where no person does
SYSTEM = "system"
#: entries that one file holds
MOST_EXPORTED = 100_000


@extend_schema_field({})
class AnyValue(serializers.JSONField):
    """What an object was or became: whatever its kind keeps, or null."""


class RecordRow(serializers.ModelSerializer[RecordEntry]):
    """One act; no actor means that the system acted by itself. `token` is the name of the token by which a script of
    theirs did it."""

    actor = serializers.CharField(source="actor.name", default=None, allow_null=True)
    token = serializers.CharField(source="token.name", default=None, allow_null=True)
    kind = serializers.ChoiceField(choices=Kind.choices)
    before = AnyValue()
    after = AnyValue()

    class Meta:
        model = RecordEntry
        fields = ("id", "at", "actor", "token", "kind", "object_id", "sentence", "before", "after")


class PersonInRecord(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    name = serializers.CharField()


class KindInRecord(serializers.Serializer[Any]):
    kind = serializers.ChoiceField(choices=Kind.choices)
    words = serializers.CharField()


class RecordChoices(serializers.Serializer[Any]):
    """What the record can be filtered by."""

    people = PersonInRecord(many=True)
    kinds = KindInRecord(many=True)


class RecordPage(serializers.Serializer[Any]):
    """A page of the record. `next` goes into `before` for the following one."""

    count = serializers.IntegerField()
    entries = RecordRow(many=True)
    next = serializers.IntegerField(allow_null=True)


FILTERS = [
    OpenApiParameter("person", str, description=f"id of a person, or `{SYSTEM}`"),
    OpenApiParameter("kind", str, enum=Kind.values, description="what it is about"),
    OpenApiParameter("object", int, description="id of the one that it is about"),
    OpenApiParameter("q", str, description="each found in the sentence"),
    OpenApiParameter("since", str, description="from this instant on"),
    OpenApiParameter("until", str, description="before this instant"),
]


class RecordListView(APIView):
    """Who did what, the latest first."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="record_list",
        parameters=[
            *FILTERS,
            OpenApiParameter("before", int, description="`next` of the page before"),
            OpenApiParameter("limit", int, description="1 to 1000, 100 if left out"),
        ],
        responses=RecordPage,
    )
    def get(self, request: Request) -> Response:
        found, params = _found(request), request.query_params
        limit, before = read_limit(params.get("limit")), read_number(params.get("before"))
        page = found if before is None else found.filter(id__lt=before)
        rows = list(page.latest_first()[: limit + 1])
        following = rows[limit - 1].pk if len(rows) > limit else None
        return Response(RecordPage({"count": found.count(), "entries": rows[:limit], "next": following}).data)


class RecordChoicesView(APIView):
    """The people and the kinds of things that the record can be filtered by."""

    within_limits = WHOLE

    @extend_schema(operation_id="record_choices", responses=RecordChoices)
    def get(self, request: Request) -> Response:
        people = list(User.objects.order_by("name", "id"))
        kinds = sorted(({"kind": value, "words": words} for value, words in Kind.choices), key=lambda k: k["words"])
        return Response(RecordChoices({"people": people, "kinds": kinds}).data)


class RecordExportView(APIView):
    """The record as a file, the latest first, at most 100,000 entries."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="record_export",
        parameters=[
            *FILTERS,
            OpenApiParameter("format", str, enum=["csv", "xlsx", "jsonl"], description="csv if left out"),
        ],
        responses=documented(CSV, XLSX, JSON_LINES),
    )
    def get(self, request: Request) -> HttpResponseBase:
        entries = _found(request).latest_first()[:MOST_EXPORTED]
        rows = (
            (
                e.at.isoformat(),
                e.actor.name if e.actor else SYSTEM,
                e.kind,
                e.object_id,
                e.sentence,
                e.token.name if e.token else "",
            )
            for e in entries.iterator(chunk_size=2000)
        )
        table = Table("record", ("at", "who", "kind", "object_id", "what", "by_token"), rows)
        return as_asked(table, request.query_params.get("format"))


def _found(request: Request) -> RecordQuerySet:
    params = request.query_params
    person = params.get("person", "")
    return RecordEntry.objects.narrowed(
        # a word that is no number is nobody
        person=None if person in ("", SYSTEM) else (read_number(person) or 0),
        by_system=person == SYSTEM,
        kind=params.get("kind", ""),
        object_id=read_number(params.get("object")),
        words=params.get("q", ""),
        since=read_moment(params["since"], "since") if params.get("since") else None,
        until=read_moment(params["until"], "until") if params.get("until") else None,
    )
