"""Edits as the API shows them."""

from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

from herald.api.fields import NamedThing, StrictSerializer
from herald.edits.models import Edit
from herald.fleet.models import PROPERTY_TYPES
from herald.groups.api.serializers import GroupUse


class EditTarget(StrictSerializer):
    """Whom it is for: devices by name or uid, or all that a rule matches. Not both."""

    devices = serializers.ListField(child=serializers.CharField(max_length=80), default=list, max_length=100_000)
    rule = serializers.CharField(allow_blank=True, default="", trim_whitespace=False)


class EditRequest(StrictSerializer):
    """What to change. What is left out stays; an empty site or custodian clears it, an empty `own_time_zone` takes the
    site's. `interval` is in seconds between check-ins."""

    target = EditTarget()
    name = serializers.CharField(allow_null=True, default=None)
    site = serializers.CharField(allow_null=True, allow_blank=True, default=None)
    custodian = serializers.CharField(allow_null=True, allow_blank=True, default=None)
    admission = serializers.CharField(allow_null=True, default=None)
    own_time_zone = serializers.CharField(allow_null=True, allow_blank=True, default=None, max_length=64)
    interval = serializers.IntegerField(allow_null=True, default=None)
    set_attributes = serializers.DictField(default=dict)
    clear_attributes = serializers.ListField(child=serializers.CharField(), default=list)
    add_tags = serializers.ListField(child=serializers.CharField(), default=list)
    remove_tags = serializers.ListField(child=serializers.CharField(), default=list)


class GroupEffectRow(serializers.Serializer[Any]):
    """What a change would do to a group, and what that sets off."""

    id = serializers.IntegerField(source="group.pk")
    name = serializers.CharField(source="group.name")
    joins = serializers.IntegerField()
    leaves = serializers.IntegerField()
    uses = GroupUse(many=True)


class EditPreview(serializers.Serializer[Any]):
    """What an edit would do."""

    targeted = serializers.IntegerField()
    changing = serializers.IntegerField()
    sentence = serializers.CharField()
    groups = GroupEffectRow(many=True)


class EditRow(serializers.ModelSerializer[Edit]):
    """An edit and how far it is."""

    created_by = serializers.CharField(default=None, allow_null=True)

    class Meta:
        model = Edit
        fields = ("id", "sentence", "state", "device_count", "done_count", "created_at", "created_by", "reason")


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
