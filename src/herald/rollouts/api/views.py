"""Calls about rollouts: writing down, preflight, launch."""

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.deliveries.api.serializers import ConflictRow
from herald.fleet.models import Device
from herald.fleet.services import device_ids
from herald.groups.audience import read_named
from herald.http.errors import Invalid
from herald.http.fields import SentencePart, read_limit, valid
from herald.http.pages import PAGE, newest_first, page_of
from herald.people.permissions import WHOLE, person
from herald.rollouts.api.serializers import (
    LaunchBody,
    OutcomeDevice,
    PreflightView,
    RolloutDetail,
    RolloutDraftBody,
    RolloutRow,
    RolloutSentenceBody,
    UsualHoursBody,
    UsualHoursView,
)
from herald.rollouts.api.shared import detail_of, find_rollout
from herald.rollouts.api.stepping_serializers import DevicesBody, DevicesReasonBody, Touched
from herald.rollouts.compose import drafts
from herald.rollouts.compose.conflicts import conflicts_of
from herald.rollouts.compose.usual_hours import usual_hours
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout, Stage
from herald.rollouts.watch import overview
from herald.rollouts.watch.sentence import draft_parts
from herald.time import clock
from herald_core.changes import Choice
from herald_core.preflight import shortfall_words
from herald_core.rings.assignment import RingKind

MOST_RINGS = 50
MOST_CHANGES = 200


RolloutPage = page_of("RolloutPage", RolloutRow, "rollouts")


class RolloutListView(APIView):
    """Rollouts, the newest first."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="rollouts_list",
        parameters=[
            OpenApiParameter("stage", str, enum=[s.value for s in Stage], description="all, if left out"),
            OpenApiParameter("q", str, description="each in the id, a version, a group, a reason or a person"),
            *PAGE,
        ],
        responses=RolloutPage,
    )
    def get(self, request: Request) -> Response:
        params = request.query_params
        stage = params.get("stage")
        found = Rollout.objects.listed().in_stage(Stage(stage) if stage else None).with_words(params.get("q", ""))
        rows, count, following = newest_first(found, request)
        body = {"count": count, "rollouts": overview.rows(rows, clock.now()), "next": following}
        return Response(RolloutPage(body).data)

    @extend_schema(operation_id="rollouts_create", request=RolloutDraftBody, responses={201: RolloutDetail})
    def post(self, request: Request) -> Response:
        rollout = drafts.save_draft(_draft(request), actor=person(request), now=clock.now())
        return Response(detail_of(rollout.pk), status=201)


class RolloutView(APIView):
    """One rollout."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_retrieve", responses=RolloutDetail)
    def get(self, request: Request, rollout_id: int) -> Response:
        return Response(detail_of(rollout_id))

    @extend_schema(operation_id="rollouts_change", request=RolloutDraftBody, responses=RolloutDetail)
    def put(self, request: Request, rollout_id: int) -> Response:
        drafts.save_draft(_draft(request), actor=person(request), now=clock.now(), rollout=find_rollout(rollout_id))
        return Response(detail_of(rollout_id))

    @extend_schema(operation_id="rollouts_delete", responses={204: None})
    def delete(self, request: Request, rollout_id: int) -> Response:
        drafts.delete_draft(find_rollout(rollout_id), actor=person(request), now=clock.now())
        return Response(status=204)


class SentenceAction(APIView):
    """The sentence of a draft as it is composed, with a slot for everything that can be chosen; keeps nothing."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="rollouts_sentence", request=RolloutSentenceBody, responses=SentencePart(many=True))
    def post(self, request: Request) -> Response:
        parts = draft_parts(valid(RolloutSentenceBody(data=request.data)))
        return Response(SentencePart(parts, many=True).data)


class UsualHoursAction(APIView):
    """The hours that a draft has in which none are said."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="rollouts_usual_hours", request=UsualHoursBody, responses=UsualHoursView)
    def post(self, request: Request) -> Response:
        asked = valid(UsualHoursBody(data=request.data))
        named = read_named(asked["include_devices"], "/include_devices")
        found = usual_hours(asked["images"], asked["include"], asked["exclude"], named)
        return Response(UsualHoursView(found).data)


class PreflightAction(APIView):
    """Who would take part, and who not and why; changes nothing."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="rollouts_preflight", request=None, responses=PreflightView)
    def post(self, request: Request, rollout_id: int) -> Response:
        rollout = find_rollout(rollout_id)
        plan = drafts.preflight(rollout, now=clock.now())
        return Response(PreflightView(overview.preflight_view(rollout, plan)).data)


class ConflictsView(APIView):
    """What else wants the devices of a draft: other rollouts, freezes, schedules, with what will happen."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_conflicts", responses=ConflictRow(many=True))
    def get(self, request: Request, rollout_id: int) -> Response:
        return Response(ConflictRow(conflicts_of(find_rollout(rollout_id), now=clock.now()), many=True).data)


class PreflightDevicesView(APIView):
    """The devices behind one count of a preflight."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="rollouts_preflight_devices",
        parameters=[
            OpenApiParameter("outcome", str, required=True, description="an outcome, or a function that is lacking"),
            OpenApiParameter("limit", int),
        ],
        responses=OutcomeDevice(many=True),
    )
    def get(self, request: Request, rollout_id: int) -> Response:
        plan = drafts.preflight(find_rollout(rollout_id), now=clock.now())
        found = plan.behind(request.query_params.get("outcome", ""))[: read_limit(request.query_params.get("limit"))]
        short = {d.id: shortfall_words(d.outcome, [d.shortfall]) for d in found if d.shortfall}
        devices = Device.objects.by_ids([d.id for d in found]).with_names().order_by("name")
        return Response(OutcomeDevice(devices, many=True, context={"short": short}).data)


class LaunchAction(APIView):
    """Launch. The number of devices must be the one that preflight gives."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_launch", request=LaunchBody, responses={202: RolloutDetail})
    def post(self, request: Request, rollout_id: int) -> Response:
        body = valid(LaunchBody(data=request.data))
        launching.request_launch(
            find_rollout(rollout_id),
            expected=body["devices"],
            despite=body["reason"],
            actor=person(request),
            now=clock.now(),
        )
        return Response(detail_of(rollout_id), status=202)


class ExcludeAction(APIView):
    """Take devices out of a draft, with a reason."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_exclude", request=DevicesReasonBody, responses=Touched)
    def post(self, request: Request, rollout_id: int) -> Response:
        asked = valid(DevicesReasonBody(data=request.data))
        devices = device_ids(asked["devices"], "/devices")
        out = drafts.exclude_devices(
            find_rollout(rollout_id), devices, asked["reason"], actor=person(request), now=clock.now()
        )
        return Response(Touched({"devices": out}).data)


class IncludeAction(APIView):
    """Let devices that were taken out of a draft take part again."""

    within_limits = WHOLE

    @extend_schema(operation_id="rollouts_include", request=DevicesBody, responses=Touched)
    def post(self, request: Request, rollout_id: int) -> Response:
        devices = device_ids(valid(DevicesBody(data=request.data))["devices"], "/devices")
        out = drafts.undo_exclusions(find_rollout(rollout_id), devices, actor=person(request), now=clock.now())
        return Response(Touched({"devices": out}).data)


def read_rings(rings: list[dict[str, Any]]) -> list[drafts.RingDraft]:
    """Rings of a request's body as they are written down."""
    if len(rings) > MOST_RINGS:
        raise Invalid("/rings", f"A rollout has at most {MOST_RINGS} rings.")
    return [
        drafts.RingDraft(
            **{k: v for k, v in ring.items() if k not in ("group_id", "kind")},
            kind=RingKind(ring["kind"]),
            group=ring["group_id"],
        )
        for ring in rings
    ]


def _draft(request: Request) -> drafts.RolloutDraft:
    body = valid(RolloutDraftBody(data=request.data))
    changes = body.pop("changes")
    if len(changes) > MOST_CHANGES:
        raise Invalid("/changes", f"A change table has at most {MOST_CHANGES} rows.")
    devices = read_named(body.pop("include_devices"), "/include_devices")
    if not body.keys() & {"window_start", "window_end"}:
        images = [c["image_id"] for c in changes if c["image_id"]]
        usual = usual_hours(images, body["include"], body["exclude"], devices)
        body |= {"window_start": usual.window_start, "window_end": usual.window_end}
        body.setdefault("window_days", usual.window_days)
    return drafts.RolloutDraft(
        changes=[_change(c) for c in changes],
        rings=read_rings(body.pop("rings")),
        plan_version=body.pop("plan_version_id"),
        devices=devices,
        **body,
    )


def _change(body: dict[str, Any]) -> drafts.ChangeDraft:
    return drafts.ChangeDraft(
        choice=Choice(body["choice"]),
        model=body["model_id"],
        uplink=body["uplink"].strip(),
        from_version=body["from_version"].strip(),
        image=body["image_id"],
        within=body["within"].strip(),
    )
