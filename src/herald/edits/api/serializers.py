"""Edits as the API shows them."""

from typing import Any

from rest_framework import serializers

from herald.edits.models import Edit
from herald.groups.api.serializers import GroupEffectRow
from herald.http.fields import StrictSerializer


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
