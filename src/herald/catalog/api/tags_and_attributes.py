"""Calls about what describes devices: tags and attributes."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.catalog import attributes, tags
from herald.catalog.api.serializers import (
    AttributeChange,
    AttributeDraft,
    AttributeRow,
    IncompatibleValueRow,
    TagDescription,
    TagRenaming,
    TagRenamingPreview,
    TagRow,
)
from herald.fleet.models import PropertyDefinition
from herald.groups.api.agreement import agreement_of
from herald.http.fields import valid
from herald.people.permissions import READING, person
from herald.time import clock
from herald_core.rules import FieldType


class TagListView(APIView):
    """Every tag, with its devices and rules."""

    within_limits = READING

    @extend_schema(operation_id="tags_list", responses=TagRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(TagRow(tags.list_tags(), many=True).data)


class TagView(APIView):
    """One tag."""

    @extend_schema(operation_id="tags_describe", request=TagDescription, responses={204: None})
    def put(self, request: Request, slug: str) -> Response:
        body = valid(TagDescription(data=request.data))
        tags.describe_tag(slug, **body, actor=person(request), now=clock.now())
        return Response(status=204)

    @extend_schema(operation_id="tags_delete", responses={204: None})
    def delete(self, request: Request, slug: str) -> Response:
        tags.delete_tag(slug, actor=person(request), now=clock.now(), agreement=agreement_of(request))
        return Response(status=204)


class TagRenamePreview(APIView):
    """What renaming or merging a tag would do."""

    changes_nothing = True

    @extend_schema(operation_id="tags_rename_preview", request=TagRenaming, responses=TagRenamingPreview)
    def post(self, request: Request, slug: str) -> Response:
        to = valid(TagRenaming(data=request.data))["to"]
        return Response(TagRenamingPreview(tags.preview_renaming(slug, to, now=clock.now())).data)


class TagRenameAction(APIView):
    """Rename a tag on devices and in rules, or merge it into another."""

    @extend_schema(operation_id="tags_rename", request=TagRenaming, responses=TagRenamingPreview)
    def post(self, request: Request, slug: str) -> Response:
        to = valid(TagRenaming(data=request.data))["to"]
        done = tags.rename_tag(slug, to, actor=person(request), now=clock.now(), agreement=agreement_of(request))
        return Response(TagRenamingPreview(done).data)


class AttributeListView(APIView):
    """The attributes that are defined."""

    within_limits = READING

    @extend_schema(operation_id="attributes_list", responses=AttributeRow(many=True))
    def get(self, request: Request) -> Response:
        return Response(AttributeRow(attributes.list_attributes(), many=True).data)

    @extend_schema(operation_id="attributes_create", request=AttributeDraft, responses={201: AttributeRow})
    def post(self, request: Request) -> Response:
        body = valid(AttributeDraft(data=request.data))
        made = attributes.make_attribute(
            attributes.Definition(**{**body, "type": FieldType(body["type"])}), actor=person(request), now=clock.now()
        )
        return Response(_row(made.key), status=201)


class AttributeView(APIView):
    """One attribute, by its reference name."""

    @extend_schema(operation_id="attributes_change", request=AttributeChange, responses=AttributeRow)
    def patch(self, request: Request, key: str) -> Response:
        attributes.change_attribute(
            _changed(request, key), actor=person(request), now=clock.now(), agreement=agreement_of(request)
        )
        return Response(_row(key))

    @extend_schema(operation_id="attributes_delete", responses={204: None})
    def delete(self, request: Request, key: str) -> Response:
        _known(key)
        attributes.delete_attribute(key, actor=person(request), now=clock.now())
        return Response(status=204)


class AttributeIncompatibleValuesView(APIView):
    """Which values in the fleet would not fit a changed attribute."""

    changes_nothing = True

    @extend_schema(
        operation_id="attributes_incompatible_values",
        request=AttributeChange,
        responses=IncompatibleValueRow(many=True),
    )
    def post(self, request: Request, key: str) -> Response:
        return Response(IncompatibleValueRow(attributes.incompatible_values(_changed(request, key)), many=True).data)


def _row(key: str) -> Any:
    return AttributeRow(next(r for r in attributes.list_attributes() if r.definition.key == key)).data


def _known(key: str) -> PropertyDefinition:
    found: PropertyDefinition = get_object_or_404(PropertyDefinition.objects.attributes(), key=key)
    return found


def _changed(request: Request, key: str) -> attributes.Definition:
    body: dict[str, Any] = valid(AttributeChange(data=request.data))
    if "type" in body:
        body["type"] = FieldType(body["type"])
        if body["type"] is not FieldType.CHOICE:
            body.setdefault("choices", ())
    return attributes.changed(_known(key), **body)
