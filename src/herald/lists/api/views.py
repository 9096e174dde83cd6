"""Calls about the lists that groups follow."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.fleet.models import Device
from herald.groups.api.agreement import agreement_of
from herald.groups.models import Group
from herald.http.errors import Invalid, NotFound
from herald.http.fields import NamedThing, StrictSerializer, read_number, valid
from herald.lists import services
from herald.lists.models import OFTENEST, RAREST, FollowedList, Names
from herald.lists.resolving import MOST_SHOWN
from herald.people.permissions import person
from herald.time import clock

#: how many devices that would join or leave are named
_NAMED = 50


class ListBody(StrictSerializer):
    """A list for a group to follow. `authorization` is sent to that host only; left out, the one there is stays while
    the host is the same, and null takes it away."""

    url = serializers.CharField(max_length=1000)
    authorization = serializers.CharField(max_length=500, allow_blank=True, allow_null=True, required=False)
    names = serializers.ChoiceField(choices=Names.choices, default=Names.DEVICES.value)
    pointer = serializers.CharField(max_length=200, allow_blank=True, default="")
    column = serializers.CharField(max_length=80, allow_blank=True, default="")
    read_every_minutes = serializers.IntegerField(min_value=OFTENEST, max_value=RAREST, default=60)
    unasked_a_day = serializers.IntegerField(min_value=0, max_value=1_000_000, default=0)
    #: how many members may leave, where most of them would
    leaves = serializers.IntegerField(min_value=0, max_value=1_000_000_000, required=False)


class ListReadBody(StrictSerializer):
    """How many members may leave, where most of them would."""

    leaves = serializers.IntegerField(min_value=0, max_value=1_000_000_000, required=False)


class LeftOut(serializers.Serializer[Any]):
    """An entry that leads to no device, and why."""

    entry = serializers.CharField()
    why = serializers.CharField()


class FollowedListRow(serializers.ModelSerializer[FollowedList]):
    """A list that a group follows: when it was read, what stood in it, and what waits for somebody to agree."""

    group = NamedThing()
    created_by = serializers.CharField(default=None, allow_null=True)
    has_authorization = serializers.SerializerMethodField()
    left_out = LeftOut(many=True)

    class Meta:
        model = FollowedList
        fields = (
            "id", "group", "url", "has_authorization", "names", "pointer", "column", "read_every_minutes",
            "unasked_a_day", "created_by", "tried_at", "read_at", "failures", "last_error", "entries", "found",
            "left_out_count", "left_out", "waits_since", "joins", "leaves", "waits_for",
        )  # fmt: skip

    def get_has_authorization(self, followed: FollowedList) -> bool:
        return bool(followed.authorization)


class ListPreview(serializers.Serializer[Any]):
    """What following a list as it is now would do: `joining` and `leaving` name the first devices of each.
    `most_leave` where so many would leave that following it needs that number, as `leaves`."""

    entries = serializers.IntegerField()
    found = serializers.IntegerField()
    members = serializers.IntegerField()
    joins = serializers.IntegerField()
    leaves = serializers.IntegerField()
    most_leave = serializers.BooleanField()
    joining = serializers.ListField(child=serializers.CharField())
    leaving = serializers.ListField(child=serializers.CharField())
    left_out_count = serializers.IntegerField()
    left_out = LeftOut(many=True)


class FollowedListsView(APIView):
    """The lists that groups follow, by the groups' names; of one group only, if it is given."""

    @extend_schema(
        operation_id="followed_lists_list",
        parameters=[OpenApiParameter("group", int, description="of this group only")],
        responses=FollowedListRow(many=True),
    )
    def get(self, request: Request) -> Response:
        found = FollowedList.objects.listed()
        if word := request.query_params.get("group"):
            group = read_number(word)
            if group is None:
                raise Invalid("/group", "A group is named by its id here.")
            found = found.filter(group=group)
        return Response(FollowedListRow(found, many=True).data)


class GroupListView(APIView):
    """The list that a group follows."""

    @extend_schema(operation_id="groups_list_follow", request=ListBody, responses=FollowedListRow)
    def put(self, request: Request, group_id: int) -> Response:
        body = valid(ListBody(data=request.data))
        leaving = body.pop("leaves", None)
        services.follow_list(
            _draft(body),
            get_object_or_404(Group, pk=group_id),
            actor=person(request),
            now=clock.now(),
            leaving=leaving,
            agreement=agreement_of(request),
        )
        return Response(_row(group_id))

    @extend_schema(operation_id="groups_list_stop", responses={204: None})
    def delete(self, request: Request, group_id: int) -> Response:
        services.stop_following(_followed(group_id), actor=person(request), now=clock.now())
        return Response(status=204)


class GroupListPreviewView(APIView):
    """What following a list would do; nothing is kept."""

    @extend_schema(operation_id="groups_list_preview", request=ListBody, responses=ListPreview)
    def post(self, request: Request, group_id: int) -> Response:
        body = valid(ListBody(data=request.data))
        body.pop("leaves", None)
        look = services.look_at(_draft(body), get_object_or_404(Group, pk=group_id))
        found = look.resolved
        return Response(
            ListPreview(
                {
                    "entries": found.entries,
                    "found": len(found.named),
                    "members": look.members,
                    "joins": len(look.joining),
                    "leaves": len(look.leaving),
                    "most_leave": look.is_most,
                    "joining": _names(look.joining),
                    "leaving": _names(look.leaving),
                    "left_out_count": len(found.left_out),
                    "left_out": found.left_out[:MOST_SHOWN],
                }
            ).data
        )


class GroupListReadAction(APIView):
    """Read a list now, whenever it is due, and do what it says. One that cannot be read changes nobody, and says so."""

    @extend_schema(operation_id="groups_list_read", request=ListReadBody, responses=FollowedListRow)
    def post(self, request: Request, group_id: int) -> Response:
        body = valid(ListReadBody(data=request.data))
        services.read_now(
            _followed(group_id),
            actor=person(request),
            now=clock.now(),
            leaving=body.get("leaves"),
            agreement=agreement_of(request),
        )
        return Response(_row(group_id))


def _draft(body: dict[str, Any]) -> services.ListDraft:
    if "authorization" in body:
        body["authorization"] = body["authorization"] or ""
    return services.ListDraft(**body)


def _followed(group_id: int) -> FollowedList:
    followed: FollowedList | None = FollowedList.objects.listed().filter(group=group_id).first()
    if followed is None:
        raise NotFound("This group follows no list.")
    return followed


def _row(group_id: int) -> Any:
    return FollowedListRow(_followed(group_id)).data


def _names(ids: list[int]) -> list[str]:
    return list(Device.objects.by_ids(ids).order_by("name").values_list("name", flat=True)[:_NAMED])
