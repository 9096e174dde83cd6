"""Calls about sites, models and custodians."""

from typing import Any, ClassVar

from drf_spectacular.utils import extend_schema, extend_schema_view
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.access.permissions import person
from herald.api.fields import NamedThing, StrictSerializer, valid
from herald.edits import ground
from herald.edits.api.serializers import GroupEffectRow
from herald.groups.api.agreement import agreement_of
from herald.time import clock


class ThingRow(serializers.Serializer[Any]):
    """What all three kinds show."""

    id = serializers.IntegerField(source="thing.pk")
    name = serializers.CharField(source="thing.name")
    devices = serializers.IntegerField()
    groups = NamedThing(many=True)


class SiteRow(ThingRow):
    """A site with its devices and the groups whose rules name it."""

    region = serializers.CharField(source="thing.region")
    time_zone = serializers.CharField(source="thing.time_zone")
    transfers_at_once = serializers.IntegerField(source="thing.transfers_at_once")


class ModelRow(ThingRow):
    """A model with its devices and the groups whose rules name it."""

    family = serializers.CharField(source="thing.family")


class CustodianRow(ThingRow):
    """A custodian with their devices and the groups whose rules name them."""

    email = serializers.CharField(source="thing.email")
    tags = serializers.ListField(child=serializers.CharField(), source="thing.tags")


class SiteDraft(StrictSerializer):
    """A site. `transfers_at_once` is how many files its uplink carries at the same time."""

    name = serializers.CharField(max_length=80)
    region = serializers.CharField(max_length=80, allow_blank=True, default="")
    time_zone = serializers.CharField(max_length=64)
    transfers_at_once = serializers.IntegerField(min_value=1, max_value=100_000, default=20)


class ModelDraft(StrictSerializer):
    """A manufacturer's model; images are for models of one family."""

    name = serializers.CharField(max_length=60)
    family = serializers.CharField(max_length=60)


class CustodianDraft(StrictSerializer):
    """The one account that answers for a device."""

    name = serializers.CharField(max_length=80)
    email = serializers.EmailField()
    tags = serializers.ListField(child=serializers.CharField(max_length=60), default=list)


class ThingEffects(serializers.Serializer[Any]):
    """What changing it does: devices that refer to it, rules rewritten, groups that gain or lose."""

    devices = serializers.IntegerField()
    rules = NamedThing(many=True)
    groups = GroupEffectRow(many=True)


class _Of(APIView):
    kind: ClassVar[ground.Kind]
    draft: ClassVar[type[StrictSerializer]]
    row: ClassVar[type[ThingRow]]

    def _row(self, pk: int) -> Any:
        return self.row(next(r for r in ground.list_things(self.kind) if r.thing.pk == pk)).data

    def _change(self, request: Request) -> dict[str, Any]:
        return valid(self.draft(data=request.data, partial=True))


class _Many(_Of):
    def get(self, request: Request) -> Response:
        return Response(self.row(ground.list_things(self.kind), many=True).data)

    def post(self, request: Request) -> Response:
        fields = valid(self.draft(data=request.data))
        made = ground.create_object(self.kind, fields, actor=person(request), now=clock.now())
        return Response(self._row(made.pk), status=201)


class _One(_Of):
    def patch(self, request: Request, pk: int) -> Response:
        thing = ground.thing_of(self.kind, pk)
        ground.change_thing(
            self.kind,
            thing,
            self._change(request),
            actor=person(request),
            now=clock.now(),
            agreement=agreement_of(request),
        )
        return Response(self._row(pk))

    def delete(self, request: Request, pk: int) -> Response:
        ground.delete_thing(self.kind, ground.thing_of(self.kind, pk), actor=person(request), now=clock.now())
        return Response(status=204)


class _Preview(_Of):
    changes_nothing = True

    def post(self, request: Request, pk: int) -> Response:
        thing = ground.thing_of(self.kind, pk)
        return Response(
            ThingEffects(ground.preview_change(self.kind, thing, self._change(request), now=clock.now())).data
        )


def calls_about(kind: ground.Kind, draft: type[StrictSerializer], row: type[ThingRow]) -> tuple[type, type, type]:
    """The views of a kind: many, one, and the preview of a change."""
    fields = {"kind": kind, "draft": draft, "row": row, "__doc__": f"{kind.word.capitalize()}s."}
    many, one, preview = (
        type(f"{kind.word.capitalize()}{base.__name__.strip('_')}", (base,), dict(fields))
        for base in (_Many, _One, _Preview)
    )
    name, partial = f"{kind.word}s", draft(partial=True)
    return (
        extend_schema_view(
            get=extend_schema(operation_id=f"{name}_list", responses=row(many=True)),
            post=extend_schema(operation_id=f"{name}_create", request=draft, responses={201: row}),
        )(many),
        extend_schema_view(
            patch=extend_schema(operation_id=f"{name}_change", request=partial, responses=row),
            delete=extend_schema(operation_id=f"{name}_delete", responses={204: None}),
        )(one),
        extend_schema_view(post=extend_schema(operation_id=f"{name}_preview", request=partial, responses=ThingEffects))(
            preview
        ),
    )


SiteListView, SiteView, SitePreviewView = calls_about(ground.SITES, SiteDraft, SiteRow)
ModelListView, ModelView, ModelPreviewView = calls_about(ground.MODELS, ModelDraft, ModelRow)
CustodianListView, CustodianView, CustodianPreviewView = calls_about(ground.CUSTODIANS, CustodianDraft, CustodianRow)
