"""Tags and attributes as the API shows them."""

from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

from herald.fleet.models import PROPERTY_TYPES
from herald.groups.api.serializers import GroupEffectRow
from herald.http.fields import NamedThing, StrictSerializer


class TagRow(serializers.Serializer[Any]):
    """A tag with how many devices carry it and the groups whose rules name it."""

    slug = serializers.CharField()
    note = serializers.CharField()
    colour = serializers.IntegerField()
    devices = serializers.IntegerField()
    groups = NamedThing(many=True)


class TagDescription(StrictSerializer):
    note = serializers.CharField(max_length=300, allow_blank=True, default="")
    colour = serializers.IntegerField(min_value=0, max_value=7, default=0)


class TagRenaming(StrictSerializer):
    """The new name; where there is a tag of that name, the two are merged."""

    to = serializers.CharField(max_length=60)


class TagRenamingPreview(serializers.Serializer[Any]):
    """What a renaming or merge does to devices, rules and groups."""

    merges = serializers.BooleanField()
    devices = serializers.IntegerField()
    rules = NamedThing(many=True)
    groups = GroupEffectRow(many=True)


@extend_schema_field({"type": ["string", "number", "boolean", "null"]})
class AnyValue(serializers.JSONField):
    """A value of an attribute: text, a number, yes or no."""


class AttributeRow(serializers.Serializer[Any]):
    """An attribute; `key` is the name by which rules, files and scripts refer to it."""

    key = serializers.CharField(source="definition.key")
    label = serializers.CharField(source="definition.label")
    type = serializers.CharField(source="definition.type")
    unit = serializers.CharField(source="definition.unit")
    choices = serializers.ListField(child=serializers.CharField(), source="definition.choices")
    note = serializers.CharField(source="definition.note")
    default = AnyValue(source="definition.default", allow_null=True)
    required = serializers.BooleanField(source="definition.required")
    devices = serializers.IntegerField()
    without = serializers.IntegerField()
    groups = NamedThing(many=True)


ATTRIBUTE_TYPES = [(t.value, t.value) for t in PROPERTY_TYPES]


class AttributeDraft(StrictSerializer):
    """A new attribute."""

    key = serializers.CharField(max_length=40)
    label = serializers.CharField(max_length=80)
    type = serializers.ChoiceField(choices=ATTRIBUTE_TYPES)
    unit = serializers.CharField(max_length=20, allow_blank=True, default="")
    choices = serializers.ListField(child=serializers.CharField(max_length=80), default=list)
    note = serializers.CharField(max_length=300, allow_blank=True, default="")
    default = AnyValue(allow_null=True, default=None)
    required = serializers.BooleanField(default=False)


class AttributeChange(StrictSerializer):
    """What to change of an attribute; what is left out stays."""

    label = serializers.CharField(max_length=80, required=False)
    type = serializers.ChoiceField(choices=ATTRIBUTE_TYPES, required=False)
    unit = serializers.CharField(max_length=20, allow_blank=True, required=False)
    choices = serializers.ListField(child=serializers.CharField(max_length=80), required=False)
    note = serializers.CharField(max_length=300, allow_blank=True, required=False)
    default = AnyValue(allow_null=True, required=False)
    required = serializers.BooleanField(required=False)


class IncompatibleValueRow(serializers.Serializer[Any]):
    """A value in the fleet that would not fit."""

    value = serializers.CharField()
    devices = serializers.IntegerField()
    why = serializers.CharField()
