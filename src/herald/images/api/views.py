"""Calls about images."""

from typing import Any
from uuid import UUID

from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.parsers import BaseParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.fleet.models import DeviceModel
from herald.http.errors import Invalid
from herald.http.fields import StrictSerializer, read_number, valid
from herald.images import services, uploads
from herald.images.coverage import Share, shares
from herald.images.models import Image, Upload
from herald.images.uploads import PIECE_BYTES
from herald.people.models import Ability
from herald.people.permissions import READING, person
from herald.time import clock


class ImageRow(serializers.ModelSerializer[Image]):
    """An image. `fits` counts the devices of its models and revisions, `ready` those that could be brought to it from
    an older version, `runs` those on its version, `failed` those on which it failed for good."""

    name = serializers.CharField(source="__str__")
    models: Any = serializers.SlugRelatedField(source="device_models", slug_field="name", many=True, read_only=True)
    added_by = serializers.CharField(default=None, allow_null=True)
    approved_by = serializers.CharField(default=None, allow_null=True)
    fits = serializers.SerializerMethodField()
    ready = serializers.SerializerMethodField()
    failed = serializers.SerializerMethodField()
    runs = serializers.SerializerMethodField()

    class Meta:
        model = Image
        fields = (
            "id",
            "name",
            "family",
            "version",
            "channel",
            "models",
            "hardware_revisions",
            "size_bytes",
            "sha256",
            "notes",
            "released_on",
            "expires_on",
            "min_version",
            "max_version",
            "free_space_mb",
            "min_battery_pct",
            "expected_minutes",
            "soak_minutes",
            "status",
            "added_by",
            "approved_by",
            "reason",
            "fits",
            "ready",
            "runs",
            "failed",
        )

    def _share(self, image: Image) -> Share:
        shares: dict[int, Share] = self.context["shares"]
        return shares[image.pk]

    def get_fits(self, image: Image) -> int:
        return self._share(image).fits

    def get_ready(self, image: Image) -> int:
        return self._share(image).ready

    def get_runs(self, image: Image) -> int:
        return self._share(image).runs

    def get_failed(self, image: Image) -> int:
        return self._share(image).failed


class UploadRow(serializers.ModelSerializer[Upload]):
    """A file on its way in. The next piece begins at `received_bytes`."""

    piece_bytes = serializers.IntegerField(default=PIECE_BYTES, read_only=True)

    class Meta:
        model = Upload
        fields = ("id", "file_name", "size_bytes", "received_bytes", "piece_bytes")


class UploadStart(StrictSerializer):
    file_name = serializers.CharField(max_length=200)
    size_bytes = serializers.IntegerField()


class ImageDraft(StrictSerializer):
    """An image of a file that has come in whole."""

    upload = serializers.PrimaryKeyRelatedField(queryset=Upload.objects.all())
    models = serializers.SlugRelatedField(
        slug_field="name", queryset=DeviceModel.objects.all(), many=True, allow_empty=False
    )
    version = serializers.CharField(max_length=64)
    channel = serializers.CharField(max_length=20, default="stable")
    hardware_revisions = serializers.ListField(child=serializers.CharField(max_length=20), default=list)
    notes = serializers.CharField(allow_blank=True, default="")
    released_on = serializers.DateField(allow_null=True, default=None)
    expires_on = serializers.DateField(allow_null=True, default=None)
    min_version = serializers.CharField(max_length=64, allow_blank=True, default="")
    max_version = serializers.CharField(max_length=64, allow_blank=True, default="")
    free_space_mb = serializers.FloatField(allow_null=True, default=None, min_value=0)
    min_battery_pct = serializers.FloatField(allow_null=True, default=None, min_value=0, max_value=100)
    expected_minutes = serializers.IntegerField(min_value=1, max_value=1440, default=10)
    soak_minutes = serializers.IntegerField(min_value=0, max_value=10_080, default=0)


class ImageUseRow(serializers.Serializer[Any]):
    kind = serializers.CharField()
    id = serializers.IntegerField()
    sentence = serializers.CharField()


class WithdrawalPreview(serializers.Serializer[Any]):
    """What withdrawing an image changes: `uses` stop, `running` devices keep the version, `cut_off` devices lose their
    way to the newest."""

    uses = ImageUseRow(many=True)
    running = serializers.IntegerField()
    cut_off = serializers.IntegerField()


class WithdrawalReason(StrictSerializer):
    reason = serializers.CharField(max_length=300, allow_blank=True)


class Octets(BaseParser):
    """The body as it is: one byte more than a piece may have tells that it is too long."""

    media_type = "application/octet-stream"

    def parse(self, stream: Any, media_type: str | None = None, parser_context: Any = None) -> Any:
        return bytes(stream.read(PIECE_BYTES + 1))


class UploadListView(APIView):
    """Begin to bring a file in."""

    @extend_schema(operation_id="uploads_create", request=UploadStart, responses={201: UploadRow})
    def post(self, request: Request) -> Response:
        given = valid(UploadStart(data=request.data))
        return Response(
            UploadRow(uploads.begin_upload(**given, actor=person(request), now=clock.now())).data, status=201
        )


class UploadView(APIView):
    """One file on its way in."""

    parser_classes = (Octets,)

    @extend_schema(operation_id="uploads_retrieve", responses=UploadRow)
    def get(self, request: Request, upload_id: UUID) -> Response:
        return Response(UploadRow(get_object_or_404(Upload, pk=upload_id)).data)

    @extend_schema(
        operation_id="uploads_append",
        parameters=[OpenApiParameter("offset", int, required=True, description="where this piece begins")],
        request={"application/octet-stream": OpenApiTypes.BINARY},
        responses=UploadRow,
    )
    def put(self, request: Request, upload_id: UUID) -> Response:
        get_object_or_404(Upload, pk=upload_id)
        offset = read_number(request.query_params.get("offset"))
        if offset is None:
            raise Invalid("/offset", "Say where the piece begins, in bytes.")
        piece: Any = request.data  # octets, by the parser of this view
        return Response(UploadRow(uploads.append(upload_id, offset, piece, now=clock.now())).data)

    @extend_schema(operation_id="uploads_delete", responses={204: None})
    def delete(self, request: Request, upload_id: UUID) -> Response:
        uploads.discard(get_object_or_404(Upload, pk=upload_id))
        return Response(status=204)


class ImageListView(APIView):
    """Images by family, the newest version first."""

    within_limits = READING

    @extend_schema(operation_id="images_list", responses=ImageRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(_rows(Image.objects.listed(), many=True))

    @extend_schema(operation_id="images_create", request=ImageDraft, responses={201: ImageRow})
    def post(self, request: Request) -> Response:
        draft = valid(ImageDraft(data=request.data))
        image = services.add_uploaded(draft.pop("upload"), **draft, actor=person(request), now=clock.now())
        return Response(_rows(image), status=201)


class ImageApproveAction(APIView):
    """Sign an image, by another person than added it."""

    needs = Ability.APPROVE

    @extend_schema(operation_id="images_approve", request=None, responses=ImageRow)
    def post(self, request: Request, image_id: int) -> Response:
        image = services.approve(get_object_or_404(Image, pk=image_id), actor=person(request), now=clock.now())
        return Response(_rows(image))


class ImageWithdrawPreview(APIView):
    """What withdrawing an image would change."""

    changes_nothing = True

    @extend_schema(operation_id="images_withdraw_preview", responses=WithdrawalPreview)
    def get(self, request: Request, image_id: int) -> Response:
        found = services.preview_withdrawal(get_object_or_404(Image, pk=image_id), now=clock.now())
        return Response(WithdrawalPreview(found).data)


class ImageWithdrawAction(APIView):
    """Let an image be sent no more."""

    needs = Ability.STOP

    @extend_schema(operation_id="images_withdraw", request=WithdrawalReason, responses=ImageRow)
    def post(self, request: Request, image_id: int) -> Response:
        reason = valid(WithdrawalReason(data=request.data))["reason"]
        image = services.withdraw(get_object_or_404(Image, pk=image_id), reason, actor=person(request), now=clock.now())
        return Response(_rows(image))


def _rows(images: Any, *, many: bool = False) -> Any:
    found = shares(list(images) if many else [images], clock.now().date())
    return ImageRow(images, many=many, context={"shares": found}).data
