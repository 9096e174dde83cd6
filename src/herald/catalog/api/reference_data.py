"""Calls about sites, models and custodians."""

from typing import Any, ClassVar

from drf_spectacular.utils import extend_schema, extend_schema_view
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.catalog import reference_data
from herald.groups.api.agreement import agreement_of
from herald.groups.api.serializers import GroupEffectRow
from herald.http.fields import NamedThing, StrictSerializer, valid
from herald.people.permissions import READING, person
from herald.time import clock


class ReferenceRow(serializers.Serializer[Any]):
    """What all three kinds show."""

    id = serializers.IntegerField(source="row.pk")
    name = serializers.CharField(source="row.name")
    devices = serializers.IntegerField()
    groups = NamedThing(many=True)


class SiteRow(ReferenceRow):
    """A site with its devices and the groups whose rules name it."""

    region = serializers.CharField(source="row.region")
    time_zone = serializers.CharField(source="row.time_zone")
    transfers_at_once = serializers.IntegerField(source="row.transfers_at_once")


class ModelRow(ReferenceRow):
    """A model with its devices and the groups whose rules name it."""

    family = serializers.CharField(source="row.family")


class CustodianRow(ReferenceRow):
    """A custodian with their devices and the groups whose rules name them."""

    email = serializers.CharField(source="row.email")
    tags = serializers.ListField(child=serializers.CharField(), source="row.tags")


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


class ReferenceEffects(serializers.Serializer[Any]):
    """What changing it does: devices that refer to it, rules rewritten, groups that gain or lose."""

    devices = serializers.IntegerField()
    rules = NamedThing(many=True)
    groups = GroupEffectRow(many=True)


class _Of(APIView):
    kind: ClassVar[reference_data.ReferenceTable]
    draft: ClassVar[type[StrictSerializer]]
    row: ClassVar[type[ReferenceRow]]

    def _row(self, pk: int) -> Any:
        return self.row(next(r for r in reference_data.list_objects(self.kind) if r.row.pk == pk)).data

    def _change(self, request: Request) -> dict[str, Any]:
        return valid(self.draft(data=request.data, partial=True))


class _Many(_Of):
    within_limits = READING

    def get(self, request: Request) -> Response:
        return Response(self.row(reference_data.list_objects(self.kind), many=True).data)

    def post(self, request: Request) -> Response:
        fields = valid(self.draft(data=request.data))
        made = reference_data.create_object(self.kind, fields, actor=person(request), now=clock.now())
        return Response(self._row(made.pk), status=201)


class _One(_Of):
    within_limits = READING

    def get(self, request: Request, pk: int) -> Response:
        return Response(self._row(reference_data.object_of(self.kind, pk).pk))

    def patch(self, request: Request, pk: int) -> Response:
        found = reference_data.object_of(self.kind, pk)
        reference_data.change_object(
            self.kind,
            found,
            self._change(request),
            actor=person(request),
            now=clock.now(),
            agreement=agreement_of(request),
        )
        return Response(self._row(pk))

    def delete(self, request: Request, pk: int) -> Response:
        reference_data.delete_object(
            self.kind, reference_data.object_of(self.kind, pk), actor=person(request), now=clock.now()
        )
        return Response(status=204)


class _Preview(_Of):
    changes_nothing = True

    def post(self, request: Request, pk: int) -> Response:
        found = reference_data.object_of(self.kind, pk)
        return Response(
            ReferenceEffects(
                reference_data.preview_change(self.kind, found, self._change(request), now=clock.now())
            ).data
        )


def calls_about(
    kind: reference_data.ReferenceTable, draft: type[StrictSerializer], row: type[ReferenceRow]
) -> tuple[type, type, type]:
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
            get=extend_schema(operation_id=f"{name}_read", responses=row),
            patch=extend_schema(operation_id=f"{name}_change", request=partial, responses=row),
            delete=extend_schema(operation_id=f"{name}_delete", responses={204: None}),
        )(one),
        extend_schema_view(
            post=extend_schema(operation_id=f"{name}_preview", request=partial, responses=ReferenceEffects)
        )(preview),
    )


SiteListView, SiteView, SitePreviewView = calls_about(reference_data.SITES, SiteDraft, SiteRow)
ModelListView, ModelView, ModelPreviewView = calls_about(reference_data.MODELS, ModelDraft, ModelRow)
CustodianListView, CustodianView, CustodianPreviewView = calls_about(
    reference_data.CUSTODIANS, CustodianDraft, CustodianRow
)
