"""Calls that look after images: cleaning up, how models are released, and the keys that sign."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.access.models import Ability
from herald.access.permissions import person
from herald.api.fields import Strict, valid
from herald.clock.source import clock
from herald.fleet.models import DeviceModel
from herald.images import cleaning, releasing
from herald.images.cleaning import UNDO_DAYS
from herald.images.models import Cleaning, Image, ReleaseOnArrival, SigningKey


class CleaningCandidate(serializers.ModelSerializer[Image]):
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

    images = CleaningCandidate(many=True)
    frees_bytes = serializers.IntegerField()


class CleaningBody(Strict):
    images = serializers.ListField(child=serializers.IntegerField(), allow_empty=True, max_length=5000)


class CleaningRow(serializers.ModelSerializer[Cleaning]):
    """Images that were cleaned away together; `undo_until` is null where that is over."""

    by = serializers.CharField(default=None, allow_null=True)
    images: Any = serializers.StringRelatedField(many=True)
    undo_until = serializers.SerializerMethodField()

    class Meta:
        model = Cleaning
        fields = ("id", "at", "by", "images", "freed_bytes", "undone_at", "purged_at", "undo_until")

    def get_undo_until(self, row: Cleaning) -> str | None:
        over = row.undone_at is not None or row.purged_at is not None
        return None if over else (row.at + UNDO_DAYS).isoformat()


class CleaningListView(APIView):
    """What was cleaned away, the latest first; and cleaning up."""

    @extend_schema(operation_id="cleanings_list", responses=CleaningRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(CleaningRow(Cleaning.objects.listed()[:50], many=True).data)

    @extend_schema(operation_id="cleanings_create", request=CleaningBody, responses={201: CleaningRow})
    def post(self, request: Request) -> Response:
        asked = valid(CleaningBody(data=request.data))["images"]
        done = cleaning.clean(asked, actor=person(request), now=clock.now())
        return Response(CleaningRow(done).data, status=201)


class CleaningRehearsalView(APIView):
    """What nobody runs, needs or can be sent."""

    @extend_schema(operation_id="cleanings_rehearse", responses=Rehearsal)
    def get(self, request: Request) -> Response:
        found = cleaning.rehearse(now=clock.now())
        frees = cleaning.freed_by([c.image for c in found if not c.kept_because])
        return Response(Rehearsal({"images": found, "frees_bytes": frees}).data)


class CleaningUndoAction(APIView):
    """Bring back what was cleaned away."""

    @extend_schema(operation_id="cleanings_undo", request=None, responses=CleaningRow)
    def post(self, request: Request, cleaning_id: int) -> Response:
        row = get_object_or_404(Cleaning, pk=cleaning_id)
        return Response(CleaningRow(cleaning.undo(row, actor=person(request), now=clock.now())).data)


class ReleaseMode(serializers.Serializer[Any]):
    """How images for a model are released, and who set it so."""

    model_id = serializers.IntegerField()
    model = serializers.CharField()
    on_arrival = serializers.BooleanField()
    set_by = serializers.CharField(allow_null=True)
    set_at = serializers.DateTimeField(allow_null=True)


class ReleaseBody(Strict):
    on_arrival = serializers.BooleanField()


def _modes() -> Any:
    set_so = {r.model_id: r for r in ReleaseOnArrival.objects.select_related("set_by")}
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
    return ReleaseMode(rows, many=True).data


class ReleaseListView(APIView):
    """How images for each model are released."""

    @extend_schema(operation_id="releases_list", responses=ReleaseMode(many=True))
    def get(self, request: Request) -> Response:
        return Response(_modes())


class ReleaseView(APIView):
    """How images for one model are released."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="releases_set", request=ReleaseBody, responses=ReleaseMode(many=True))
    def put(self, request: Request, pk: int) -> Response:
        asked = valid(ReleaseBody(data=request.data))
        model = get_object_or_404(DeviceModel, pk=pk)
        releasing.set_release(model, on_arrival=asked["on_arrival"], actor=person(request), now=clock.now())
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
        done = releasing.rotate_key(actor=person(request), now=clock.now())
        return Response(RotationView(done).data, status=201)


class KeyView(APIView):
    """One key; taking it back means that devices refuse what it signed."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="keys_revoke", responses={200: KeyRow})
    def delete(self, request: Request, kid: str) -> Response:
        get_object_or_404(SigningKey, pk=kid)
        return Response(KeyRow(releasing.revoke_key(kid, actor=person(request), now=clock.now())).data)
