"""Calls that look after images: cleaning up, how models are released, and the keys that sign."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.fleet.models import DeviceModel
from herald.http.fields import StrictSerializer, valid
from herald.http.pages import PAGE, newest_first, page_of
from herald.images import approval, cleanup
from herald.images.cleanup import UNDO_DAYS
from herald.images.models import AutoApproval, Image, ImageCleanup, SigningKey
from herald.people.models import Ability
from herald.people.permissions import person
from herald.time import clock


class CleanupCandidate(serializers.ModelSerializer[Image]):
    """An image with its file, and why that is kept; empty where nothing needs it."""

    name = serializers.CharField(source="image.__str__")
    id = serializers.IntegerField(source="image.pk")
    status = serializers.CharField(source="image.status")
    size_bytes = serializers.IntegerField(source="image.size_bytes")
    kept_because = serializers.CharField()

    class Meta:
        model = Image
        fields = ("id", "name", "status", "size_bytes", "kept_because")


class Rehearsal(serializers.Serializer[Any]):
    """What cleaning up would put away, and what it would free where all of that went."""

    images = CleanupCandidate(many=True)
    frees_bytes = serializers.IntegerField()


class ImageCleanupBody(StrictSerializer):
    images = serializers.ListField(child=serializers.IntegerField(), allow_empty=True, max_length=5000)


class ImageCleanupRow(serializers.ModelSerializer[ImageCleanup]):
    """Images that were removed together; `undo_until` is null where that is over."""

    by = serializers.CharField(default=None, allow_null=True)
    images: Any = serializers.StringRelatedField(many=True)
    undo_until = serializers.SerializerMethodField()

    class Meta:
        model = ImageCleanup
        fields = ("id", "at", "by", "images", "freed_bytes", "undone_at", "purged_at", "undo_until")

    def get_undo_until(self, row: ImageCleanup) -> str | None:
        over = row.undone_at is not None or row.purged_at is not None
        return None if over else (row.at + UNDO_DAYS).isoformat()


ImageCleanupPage = page_of("ImageCleanupPage", ImageCleanupRow, "cleanups")


class ImageCleanupListView(APIView):
    """What was removed, the latest first; and cleaning up."""

    @extend_schema(operation_id="image_cleanups_list", parameters=PAGE, responses=ImageCleanupPage)
    def get(self, request: Request) -> Response:
        rows, count, following = newest_first(ImageCleanup.objects.listed(), request)
        return Response(ImageCleanupPage({"count": count, "cleanups": rows, "next": following}).data)

    @extend_schema(operation_id="image_cleanups_create", request=ImageCleanupBody, responses={201: ImageCleanupRow})
    def post(self, request: Request) -> Response:
        asked = valid(ImageCleanupBody(data=request.data))["images"]
        done = cleanup.clean(asked, actor=person(request), now=clock.now())
        return Response(ImageCleanupRow(done).data, status=201)


class ImageCleanupPreview(APIView):
    """What nobody runs, needs or can be sent."""

    @extend_schema(operation_id="image_cleanups_preview", responses=Rehearsal)
    def get(self, request: Request) -> Response:
        found = cleanup.preview_cleanup(now=clock.now())
        frees = cleanup.freed_by([c.image for c in found if not c.kept_because])
        return Response(Rehearsal({"images": found, "frees_bytes": frees}).data)


class ImageCleanupUndoAction(APIView):
    """Bring back what was removed."""

    @extend_schema(operation_id="image_cleanups_undo", request=None, responses=ImageCleanupRow)
    def post(self, request: Request, cleanup_id: int) -> Response:
        row = get_object_or_404(ImageCleanup, pk=cleanup_id)
        return Response(ImageCleanupRow(cleanup.undo(row, actor=person(request), now=clock.now())).data)


class ApprovalPolicyRow(serializers.Serializer[Any]):
    """How images for a model are released, and who set it so."""

    model_id = serializers.IntegerField()
    model = serializers.CharField()
    on_arrival = serializers.BooleanField()
    set_by = serializers.CharField(allow_null=True)
    set_at = serializers.DateTimeField(allow_null=True)


class ApprovalPolicyBody(StrictSerializer):
    on_arrival = serializers.BooleanField()


def _modes() -> Any:
    set_so = {r.model_id: r for r in AutoApproval.objects.select_related("set_by")}
    rows = [
        {
            "model_id": model.pk,
            "model": model.name,
            "on_arrival": model.pk in set_so,
            "set_by": str(set_so[model.pk].set_by) if model.pk in set_so and set_so[model.pk].set_by else None,
            "set_at": set_so[model.pk].set_at if model.pk in set_so else None,
        }
        for model in DeviceModel.objects.order_by("name")
    ]
    return ApprovalPolicyRow(rows, many=True).data


class ApprovalPolicyListView(APIView):
    """How images for each model are released."""

    @extend_schema(operation_id="approval_policies_list", responses=ApprovalPolicyRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(_modes())


class ApprovalPolicyView(APIView):
    """How images for one model are released."""

    needs = Ability.ADMINISTER

    @extend_schema(
        operation_id="approval_policies_set", request=ApprovalPolicyBody, responses=ApprovalPolicyRow(many=True)
    )
    def put(self, request: Request, pk: int) -> Response:
        asked = valid(ApprovalPolicyBody(data=request.data))
        model = get_object_or_404(DeviceModel, pk=pk)
        approval.set_release(model, on_arrival=asked["on_arrival"], actor=person(request), now=clock.now())
        return Response(_modes())


class KeyRow(serializers.ModelSerializer[SigningKey]):
    """A key that signs images, or did; its public half is published until it is taken back."""

    class Meta:
        model = SigningKey
        fields = ("kid", "created_at", "retired_at", "revoked_at")


class RotationView(serializers.Serializer[Any]):
    """The new key, and how many images were signed anew."""

    kid = serializers.CharField()
    signed = serializers.IntegerField()


class KeyListView(APIView):
    """The keys that sign images, the latest first."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="keys_list", responses=KeyRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(KeyRow(SigningKey.objects.order_by("-created_at"), many=True).data)

    @extend_schema(operation_id="keys_rotate", request=None, responses={201: RotationView})
    def post(self, request: Request) -> Response:
        done = approval.rotate_key(actor=person(request), now=clock.now())
        return Response(RotationView(done).data, status=201)


class KeyView(APIView):
    """One key; taking it back means that devices refuse what it signed."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="keys_revoke", responses={200: KeyRow})
    def delete(self, request: Request, kid: str) -> Response:
        get_object_or_404(SigningKey, pk=kid)
        return Response(KeyRow(approval.revoke_key(kid, actor=person(request), now=clock.now())).data)
