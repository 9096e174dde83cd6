"""The call about the upgrade graph of a model."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.fleet.models import DeviceModel
from herald.images.paths import upgrade_paths
from herald.people.permissions import WHOLE
from herald.time import clock


class VersionPointRow(serializers.Serializer[Any]):
    """A version: `runs` devices of the model, `stranded` of them without a way to the newest, and `cuts_off` how many
    devices would lose theirs if its image were withdrawn. `status` is empty where there is no image."""

    version = serializers.CharField()
    image_id = serializers.IntegerField(allow_null=True)
    status = serializers.CharField(allow_blank=True)
    runs = serializers.IntegerField()
    stranded = serializers.IntegerField()
    cuts_off = serializers.IntegerField()


class StepRow(serializers.Serializer[Any]):
    """A step, and how many devices would take it on their way to the newest."""

    from_version = serializers.CharField()
    to_version = serializers.CharField()
    devices = serializers.IntegerField()


class UpgradePathsView(serializers.Serializer[Any]):
    """The versions of a model from the oldest to the newest; `newest` is the newest that is approved and current."""

    newest = serializers.CharField(allow_blank=True)
    versions = VersionPointRow(many=True)
    steps = StepRow(many=True)


class ModelUpgradesView(APIView):
    """The upgrade graph of a model: versions, steps, where the fleet stands, dead ends."""

    within_limits = WHOLE

    @extend_schema(operation_id="models_upgrades", responses=UpgradePathsView)
    def get(self, request: Request, pk: int) -> Response:
        found = upgrade_paths(get_object_or_404(DeviceModel, pk=pk), clock.now().date())
        return Response(UpgradePathsView(found).data)
