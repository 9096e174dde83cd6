"""Calls about groups and rules."""

from datetime import datetime
from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.fleet.api.serializers import DevicePage
from herald.fleet.models import Device
from herald.fleet.services import device_ids, find_device, find_devices
from herald.groups import folders, history, members, services
from herald.groups.api.agreement import agreement_of
from herald.groups.api.serializers import (
    Changed,
    CompareQuestion,
    ExplainQuestion,
    Explanation,
    Explanations,
    FolderChange,
    FolderDraft,
    FolderRow,
    GroupChange,
    GroupDetail,
    GroupDraft,
    GroupHistory,
    GroupRow,
    MemberChange,
    OverlapRow,
    ProposedRule,
    RuleBody,
    RulePreview,
    RuleQuestion,
    RuleSieve,
    SideBySide,
    SieveQuestion,
)
from herald.groups.models import Folder, Group
from herald.groups.overlaps import MOST_GROUPS, overlaps_of
from herald.groups.references import live_references, references_to
from herald.groups.rule_suggestions import propose_rule
from herald.groups.sieve import compute_sieve
from herald.http.errors import Invalid
from herald.http.fields import next_page, read_limit, read_moment, read_number, valid
from herald.people.permissions import READING, WHOLE, person
from herald.time import clock


class GroupListView(APIView):
    """Groups with their counts."""

    within_limits = READING

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
            family=draft["family"],
            only_model=draft["only_model"],
            device_ids=device_ids(draft["devices"], "/devices"),
            actor=person(request),
            now=clock.now(),
        )
        return Response(_detail(group.pk), status=201)


class GroupView(APIView):
    """One group."""

    within_limits = READING

    @extend_schema(operation_id="groups_retrieve", responses=GroupDetail)
    def get(self, request: Request, group_id: int) -> Response:
        return Response(_detail(group_id))

    @extend_schema(operation_id="groups_change", request=GroupChange, responses=GroupDetail)
    def patch(self, request: Request, group_id: int) -> Response:
        change = valid(GroupChange(data=request.data))
        if "folder_id" in change:
            change["folder"] = change.pop("folder_id")
        services.change_group(
            get_object_or_404(Group, pk=group_id),
            actor=person(request),
            now=clock.now(),
            agreement=agreement_of(request),
            **change,
        )
        return Response(_detail(group_id))

    @extend_schema(operation_id="groups_delete", responses={204: None})
    def delete(self, request: Request, group_id: int) -> Response:
        services.delete_group(get_object_or_404(Group, pk=group_id), actor=person(request), now=clock.now())
        return Response(status=204)


class GroupMembersView(APIView):
    """The devices of a group."""

    within_limits = READING

    @extend_schema(
        operation_id="groups_members",
        parameters=[OpenApiParameter("cursor", str), OpenApiParameter("limit", int)],
        responses=DevicePage,
    )
    def get(self, request: Request, group_id: int) -> Response:
        group = get_object_or_404(Group, pk=group_id)
        inside = Device.objects.filter(memberships__group=group)
        limit = read_limit(request.query_params.get("limit"))
        page = inside.page_after(request.query_params.get("cursor")).with_names()
        rows, last = next_page(list(page[: limit + 1]), limit)
        return Response(
            DevicePage({"count": inside.count(), "devices": rows, "next": last.name if last else None}).data
        )

    @extend_schema(operation_id="groups_change_members", request=MemberChange, responses=Changed)
    def post(self, request: Request, group_id: int) -> Response:
        change = valid(MemberChange(data=request.data))
        difference = members.change_members(
            get_object_or_404(Group, pk=group_id),
            add=device_ids(change["add"], "/add"),
            remove=device_ids(change["remove"], "/remove"),
            move=change["move"],
            actor=person(request),
            now=clock.now(),
            agreement=agreement_of(request),
        )
        return Response(Changed(difference).data)


class GroupConvertToStaticAction(APIView):
    """Turn a group by rule static: it keeps the members of now."""

    @extend_schema(operation_id="groups_convert_to_static", request=None, responses=GroupDetail)
    def post(self, request: Request, group_id: int) -> Response:
        group = get_object_or_404(Group, pk=group_id)
        members.convert_to_static(group, actor=person(request), now=clock.now(), agreement=agreement_of(request))
        return Response(_detail(group_id))


class GroupConvertToRuleAction(APIView):
    """Turn a group picked by hand into one by rule."""

    @extend_schema(operation_id="groups_convert_to_rule", request=RuleBody, responses=GroupDetail)
    def post(self, request: Request, group_id: int) -> Response:
        rule = valid(RuleBody(data=request.data))["rule"]
        group = get_object_or_404(Group, pk=group_id)
        members.convert_to_rule(group, rule, actor=person(request), now=clock.now(), agreement=agreement_of(request))
        return Response(_detail(group_id))


class GroupProposedRuleView(APIView):
    """A rule that gives a group's members, or the nearest."""

    @extend_schema(operation_id="groups_proposed_rule", responses=ProposedRule)
    def get(self, request: Request, group_id: int) -> Response:
        group = get_object_or_404(Group, pk=group_id)
        return Response(ProposedRule(propose_rule(group, limit=50, now=clock.now())).data)


class GroupHistoryView(APIView):
    """How a group's membership changed."""

    within_limits = WHOLE

    @extend_schema(operation_id="groups_history", responses=GroupHistory)
    def get(self, request: Request, group_id: int) -> Response:
        group = get_object_or_404(Group, pk=group_id)
        return Response(
            GroupHistory(
                {
                    "curve": history.member_curve(group, now=clock.now()),
                    "changes": history.latest_changes(group, most=100),
                }
            ).data
        )


class GroupMembershipDiffView(APIView):
    """A group's members at two moments beside each other; the second is now unless said otherwise."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="groups_membership_diff",
        parameters=[
            OpenApiParameter("first", datetime, required=True, description="the first moment, with its zone"),
            OpenApiParameter("second", datetime, description="the second moment"),
        ],
        responses=SideBySide,
    )
    def get(self, request: Request, group_id: int) -> Response:
        group = get_object_or_404(Group, pk=group_id)
        first = read_moment(request.query_params.get("first"), "first")
        until = request.query_params.get("second")
        second = read_moment(until, "second") if until else clock.now()
        return Response(_beside(history.members_at(group, first), history.members_at(group, second)))


class OverlapView(APIView):
    """How groups overlap."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="groups_overlaps",
        parameters=[OpenApiParameter("group", int, many=True, required=True, description="two to eight groups")],
        responses=OverlapRow(many=True),
    )
    def get(self, request: Request) -> Response:
        words = request.query_params.getlist("group")
        ids = list(dict.fromkeys(n for w in words if (n := read_number(w)) is not None))
        if not 2 <= len(ids) <= MOST_GROUPS or len(ids) != len(words):
            raise Invalid("/group", f"Name two to {MOST_GROUPS} different groups by their ids.")
        by_id = Group.objects.in_bulk(ids)
        if missing := [i for i in ids if i not in by_id]:
            raise Invalid("/group", f"There is no group {missing[0]}.")
        return Response(OverlapRow(overlaps_of([by_id[i] for i in ids]), many=True).data)


def _beside(first: Any, second: Any) -> Any:
    parts = history.compare(first, second)
    shown: dict[str, Any] = {}
    for name in ("only_first", "only_second", "both"):
        devices = getattr(parts, name)
        shown[f"{name}_count"] = devices.count()
        shown[name] = devices.with_names().order_by("name")[:100]
    return SideBySide(shown).data


class FolderListView(APIView):
    """The tree of folders."""

    within_limits = READING

    @extend_schema(operation_id="folders_list", responses=FolderRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(FolderRow(folders.list_folders(), many=True).data)

    @extend_schema(operation_id="folders_create", request=FolderDraft, responses={201: FolderRow})
    def post(self, request: Request) -> Response:
        draft = valid(FolderDraft(data=request.data))
        made = folders.make_folder(**draft, actor=person(request), now=clock.now())
        return Response(_folder(made.pk), status=201)


class FolderView(APIView):
    """One folder."""

    @extend_schema(operation_id="folders_change", request=FolderChange, responses=FolderRow)
    def patch(self, request: Request, folder_id: int) -> Response:
        folder = get_object_or_404(Folder, pk=folder_id)
        change = {"parent": folder.parent, **valid(FolderChange(data=request.data))}
        folders.change_folder(folder, **change, actor=person(request), now=clock.now())
        return Response(_folder(folder_id))

    @extend_schema(operation_id="folders_delete", responses={204: None})
    def delete(self, request: Request, folder_id: int) -> Response:
        folders.delete_folder(get_object_or_404(Folder, pk=folder_id), actor=person(request), now=clock.now())
        return Response(status=204)


def _folder(folder_id: int) -> Any:
    return FolderRow(next(f for f in folders.list_folders() if f.id == folder_id)).data


class RulePreviewView(APIView):
    """Who a rule matches, before it is saved."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="rules_preview", request=RuleQuestion, responses=RulePreview)
    def post(self, request: Request) -> Response:
        question = valid(RuleQuestion(data=request.data))
        preview = services.preview_rule(
            question["rule"], limit=question["limit"], now=clock.now(), group=question["group"]
        )
        return Response(RulePreview(preview).data)


class RuleSieveView(APIView):
    """What each line of a rule lets through, who was just missed, and what is worth a look."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="rules_sieve", request=SieveQuestion, responses=RuleSieve)
    def post(self, request: Request) -> Response:
        question = valid(SieveQuestion(data=request.data))
        return Response(RuleSieve(compute_sieve(question["rule"], limit=question["limit"], now=clock.now())).data)


class RuleCompareView(APIView):
    """Why a rule matches some devices and not others, side by side."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="rules_compare", request=CompareQuestion, responses=Explanations)
    def post(self, request: Request) -> Response:
        question = valid(CompareQuestion(data=request.data))
        devices, unknown = find_devices(question["devices"])
        explained = services.explain_devices(question["rule"], devices, now=clock.now())
        rows = [
            {"member": member, "device": d.name, "clauses": [v.__dict__ for v in verdicts]}
            for d in devices
            for member, verdicts in [explained[d.pk]]
        ]
        return Response(Explanations({"devices": rows, "unknown": unknown}).data)


class RuleExplainView(APIView):
    """Why a rule matches a device, or does not."""

    within_limits = WHOLE
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
    group.uses = [u.__dict__ for u in references_to(group)]
    group.following = [u.__dict__ for u in live_references(group)]
    group.of_other_models = (
        Device.objects.filter(memberships__group=group).exclude(model=group.only_model).count()
        if group.only_model
        else 0
    )
    return GroupDetail(group).data
