"""Calls about groups and rules."""

from typing import Any

from django.db.models import Count
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.api.fields import next_page, read_limit, valid
from herald.clock.source import clock
from herald.fleet.api.serializers import DevicePage
from herald.fleet.models import Device
from herald.fleet.services import device_ids, find_device
from herald.groups import services
from herald.groups.api.serializers import (
    Changed,
    ExplainQuestion,
    Explanation,
    FolderRow,
    GroupChange,
    GroupDetail,
    GroupDraft,
    GroupRow,
    MemberChange,
    RulePreview,
    RuleQuestion,
)
from herald.groups.models import Folder, Group
from herald.groups.uses import uses_of


class GroupListView(APIView):
    """Groups with their counts."""

    @extend_schema(operation_id="groups_list", responses=GroupRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(GroupRow(Group.objects.with_counts(), many=True).data)

    @extend_schema(operation_id="groups_create", request=GroupDraft, responses={201: GroupDetail})
    def post(self, request: Request) -> Response:
        draft = valid(GroupDraft(data=request.data))
        group = services.create_group(
            name=draft["name"],
            kind=draft["kind"],
            rule=draft["rule"],
            note=draft["note"],
            folder=draft["folder_id"],
            device_ids=device_ids(draft["devices"], "/devices"),
            actor=request.user,
            now=clock.now(),
        )
        return Response(_detail(group.pk), status=201)


class GroupView(APIView):
    """One group."""

    @extend_schema(operation_id="groups_retrieve", responses=GroupDetail)
    def get(self, request: Request, group_id: int) -> Response:
        return Response(_detail(group_id))

    @extend_schema(operation_id="groups_change", request=GroupChange, responses=GroupDetail)
    def patch(self, request: Request, group_id: int) -> Response:
        change = valid(GroupChange(data=request.data))
        services.change_group(
            get_object_or_404(Group, pk=group_id),
            actor=request.user,
            now=clock.now(),
            name=change.get("name"),
            note=change.get("note"),
            rule=change.get("rule"),
            folder=change.get("folder_id"),
            move="folder_id" in change,
        )
        return Response(_detail(group_id))

    @extend_schema(operation_id="groups_delete", responses={204: None})
    def delete(self, request: Request, group_id: int) -> Response:
        services.delete_group(get_object_or_404(Group, pk=group_id), actor=request.user, now=clock.now())
        return Response(status=204)


class GroupMembersView(APIView):
    """The devices of a group."""

    @extend_schema(
        operation_id="groups_members",
        parameters=[OpenApiParameter("cursor", str), OpenApiParameter("limit", int)],
        responses=DevicePage,
    )
    def get(self, request: Request, group_id: int) -> Response:
        group = get_object_or_404(Group, pk=group_id)
        members = Device.objects.filter(memberships__group=group)
        limit = read_limit(request.query_params.get("limit"))
        page = members.page_after(request.query_params.get("cursor")).with_names()
        rows, last = next_page(list(page[: limit + 1]), limit)
        return Response(
            DevicePage({"count": members.count(), "devices": rows, "next": last.name if last else None}).data
        )

    @extend_schema(operation_id="groups_change_members", request=MemberChange, responses=Changed)
    def post(self, request: Request, group_id: int) -> Response:
        change = valid(MemberChange(data=request.data))
        difference = services.change_members(
            get_object_or_404(Group, pk=group_id),
            add=device_ids(change["add"], "/add"),
            remove=device_ids(change["remove"], "/remove"),
            actor=request.user,
            now=clock.now(),
        )
        return Response(Changed(difference).data)


class FolderListView(APIView):
    """Folders of groups."""

    @extend_schema(operation_id="folders_list", responses=FolderRow(many=True))
    def get(self, request: Request) -> Response:
        folders = Folder.objects.annotate(device_count=Count("groups__memberships__device", distinct=True)).order_by(
            "name"
        )
        return Response(FolderRow(folders, many=True).data)


class RulePreviewView(APIView):
    """Who a rule matches, before it is saved."""

    changes_nothing = True

    @extend_schema(operation_id="rules_preview", request=RuleQuestion, responses=RulePreview)
    def post(self, request: Request) -> Response:
        question = valid(RuleQuestion(data=request.data))
        preview = services.preview_rule(
            question["rule"], limit=question["limit"], now=clock.now(), group=question["group"]
        )
        return Response(RulePreview(preview).data)


class RuleExplainView(APIView):
    """Why a rule matches a device, or does not."""

    changes_nothing = True

    @extend_schema(operation_id="rules_explain", request=ExplainQuestion, responses=Explanation)
    def post(self, request: Request) -> Response:
        question = valid(ExplainQuestion(data=request.data))
        device = find_device(question["device"])
        member, verdicts = services.explain_rule(question["rule"], device, now=clock.now())
        return Response(
            Explanation({"member": member, "device": device.name, "clauses": [v.__dict__ for v in verdicts]}).data
        )


def _detail(group_id: int) -> Any:
    group: Any = get_object_or_404(Group.objects.with_counts(), pk=group_id)
    group.uses = [u.__dict__ for u in uses_of(group)]
    return GroupDetail(group).data
