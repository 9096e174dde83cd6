"""Calls about images."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.fleet.models import Device
from herald.images.models import Image


class ImageRow(serializers.ModelSerializer[Image]):
    """An image. `fits` counts the devices of its models, `runs` those on its version."""

    name = serializers.CharField(source="__str__")
    models = serializers.SlugRelatedField(source="device_models", slug_field="name", many=True, read_only=True)
    fits = serializers.SerializerMethodField()
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
            "fits",
            "runs",
        )

    def _count(self, image: Image, key: str | None) -> int:
        counts: dict[tuple[int, str | None], int] = self.context["counts"]
        models = {m.pk for m in image.device_models.all()}
        return sum(n for (model, k), n in counts.items() if model in models and key in (None, k))

    def get_fits(self, image: Image) -> int:
        return self._count(image, None)

    def get_runs(self, image: Image) -> int:
        return self._count(image, image.version_key)


class ImageListView(APIView):
    """Images by family, the newest version first."""

    @extend_schema(operation_id="images_list", responses=ImageRow(many=True))
    def get(self, request: Request) -> Response:
        counts: Any = Device.objects.by_model_and_version()
        return Response(ImageRow(Image.objects.listed(), many=True, context={"counts": counts}).data)
