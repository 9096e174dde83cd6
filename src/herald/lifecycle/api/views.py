"""Calls about the life of devices: added, admitted, given secrets, replaced, removed."""

from typing import Any

from django.db.models import F
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.deliveries.api.serializers import ConflictRow
from herald.deliveries.conflicts import conflicts_with_others
from herald.edits.api.serializers import EditTarget
from herald.edits.services import Target, targeted_ids
from herald.fleet.models import Admission, Device, EnrolmentAttempt
from herald.fleet.services import ask_all_to_report, find_device
from herald.groups.api.agreement import agreement_of
from herald.http.fields import valid
from herald.lifecycle import adding, removing, replacing, secrets
from herald.lifecycle.api.serializers import (
    AdmissionQueue,
    Asked,
    DeviceDraftBody,
    DeviceName,
    IssuedSecret,
    LetInBody,
    RemovalBody,
    RemovalView,
    ReplacementBody,
    ReplacementView,
)
from herald.people.models import Ability
from herald.people.permissions import WHOLE, person
from herald.time import clock

#: of a long queue the first are shown; the rest is in Fleet, by `admission = waiting`
SHOWN = 200


class DeviceAddAction(APIView):
    """Add one device, before it first calls."""

    @extend_schema(operation_id="devices_add", request=DeviceDraftBody, responses={201: DeviceName})
    def post(self, request: Request) -> Response:
        body = valid(DeviceDraftBody(data=request.data))
        draft = adding.DeviceDraft(**{**body, "admission": Admission(body["admission"])})
        made = adding.add_device(draft, actor=person(request), now=clock.now(), agreement=agreement_of(request))
        return Response(DeviceName(made).data, status=201)


class DevicesUpcomingView(APIView):
    """What will reach devices: open rollouts that have something for them, and schedules that fire at them."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="devices_upcoming", request=EditTarget, responses=ConflictRow(many=True))
    def post(self, request: Request) -> Response:
        ids = targeted_ids(Target(**valid(EditTarget(data=request.data))), clock.now())
        found = conflicts_with_others(Device.objects.by_ids(ids).order_by(), clock.now())
        return Response(ConflictRow(found, many=True).data)


class DevicesReportAction(APIView):
    """Ask devices to say everything at their next check-in."""

    within_limits = WHOLE

    @extend_schema(operation_id="devices_request_reports", request=EditTarget, responses=Asked)
    def post(self, request: Request) -> Response:
        ids = targeted_ids(Target(**valid(EditTarget(data=request.data))), clock.now())
        return Response(Asked({"asked": ask_all_to_report(ids, actor=person(request), now=clock.now())}).data)


class DeviceSecretIssueAction(APIView):
    """A new secret for a device; the one of before stops working."""

    needs = Ability.ADMINISTER  # who holds a secret can speak for the device

    @extend_schema(operation_id="devices_issue_secret", request=None, responses=IssuedSecret)
    def post(self, request: Request, device: str) -> Response:
        secret = secrets.issue_secret(find_device(device), actor=person(request), now=clock.now())
        return Response(IssuedSecret({"secret": secret}).data)


class DeviceSecretRevokeAction(APIView):
    """Let no call in by a device's secret; it may enrol again."""

    @extend_schema(operation_id="devices_revoke_secret", request=None, responses={204: None})
    def post(self, request: Request, device: str) -> Response:
        secrets.revoke_secret(find_device(device), actor=person(request), now=clock.now())
        return Response(status=204)


class DeviceRemovalView(APIView):
    """What removing a retired device for good takes away, and doing so."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="devices_removal", responses=RemovalView)
    def get(self, request: Request, device: str) -> Response:
        return Response(RemovalView(removing.preview_removal(find_device(device))).data)

    @extend_schema(operation_id="devices_remove", request=RemovalBody, responses={204: None})
    def post(self, request: Request, device: str) -> Response:
        name = valid(RemovalBody(data=request.data))["name"]
        removing.remove_device(find_device(device), name=name, actor=person(request), now=clock.now())
        return Response(status=204)


class DeviceReplacePreview(APIView):
    """What putting another device in the place of this one does."""

    changes_nothing = True

    @extend_schema(operation_id="devices_replace_preview", request=ReplacementBody, responses=ReplacementView)
    def post(self, request: Request, device: str) -> Response:
        by = find_device(valid(ReplacementBody(data=request.data))["by"])
        told = replacing.preview_replacement(find_device(device), by, now=clock.now())
        return Response(ReplacementView(told).data)


class DeviceReplaceAction(APIView):
    """Put another device in the place of this one, which is retired."""

    @extend_schema(operation_id="devices_replace", request=ReplacementBody, responses=DeviceName)
    def post(self, request: Request, device: str) -> Response:
        by = find_device(valid(ReplacementBody(data=request.data))["by"])
        done = replacing.replace_device(
            find_device(device), by, actor=person(request), now=clock.now(), agreement=agreement_of(request)
        )
        return Response(DeviceName(done).data)


class AdmissionQueueView(APIView):
    """Who waits for admission, and who was refused as it enrolled; the latest first."""

    @extend_schema(operation_id="admissions_list", responses=AdmissionQueue)
    def get(self, request: Request) -> Response:
        waiting = Device.objects.with_names().filter(admission=Admission.WAITING)
        attempts: list[Any] = list(EnrolmentAttempt.objects.newest(SHOWN))
        names = dict(Device.objects.filter(uid__any=[a.uid for a in attempts]).values_list("uid", "name"))
        for attempt in attempts:
            attempt.device = names.get(attempt.uid)
        body = {
            "waiting_count": waiting.count(),
            "waiting": waiting.order_by(F("first_seen").desc(nulls_last=True), "name")[:SHOWN],
            "attempts": attempts,
        }
        return Response(AdmissionQueue(body).data)


class AttemptView(APIView):
    """One refused attempt."""

    @extend_schema(operation_id="admissions_dismiss", responses={204: None})
    def delete(self, request: Request, attempt_id: int) -> Response:
        get_object_or_404(EnrolmentAttempt, pk=attempt_id).delete()
        return Response(status=204)


class LetInAgainAction(APIView):
    """Let a device that was removed for good enrol again, as a new one."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="admissions_let_in_again", request=LetInBody, responses={204: None})
    def post(self, request: Request) -> Response:
        removing.let_in_again(valid(LetInBody(data=request.data))["uid"], actor=person(request), now=clock.now())
        return Response(status=204)
