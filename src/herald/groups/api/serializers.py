"""Groups and rules as the API shows them."""

from typing import Any

from rest_framework import serializers

from herald.api.fields import Strict
from herald.fleet.api.serializers import DeviceRow
from herald.groups.models import Folder, Group, GroupKind


class GroupRow(serializers.ModelSerializer[Group]):
    """A group with how many devices are in it now."""

    folder = serializers.CharField(source="folder.name", default=None, allow_null=True)
    folder_id = serializers.IntegerField(allow_null=True)
    family = serializers.CharField(source="family.name", default=None, allow_null=True)
    member_count = serializers.IntegerField()

    class Meta:
        model = Group
        fields = (
            "id",
            "name",
            "kind",
            "rule",
            "follows_time",
            "note",
            "folder",
            "folder_id",
            "family",
            "member_count",
            "updated_at",
        )


class GroupUse(serializers.Serializer[Any]):
    kind = serializers.CharField()
    id = serializers.IntegerField()
    sentence = serializers.CharField()


class GroupDetail(GroupRow):
    """A group with what uses it."""

    uses = GroupUse(many=True)

    class Meta(GroupRow.Meta):
        fields = (*GroupRow.Meta.fields, "uses")


class GroupDraft(Strict):
    """A new group. `devices` (names or uids) only for one picked by hand, `rule` only for one by rule."""

    name = serializers.CharField(max_length=80)
    kind = serializers.ChoiceField(choices=GroupKind.choices, default=GroupKind.RULE.value)
    rule = serializers.CharField(allow_blank=True, default="", trim_whitespace=False)
    note = serializers.CharField(max_length=500, allow_blank=True, default="")
    folder_id = serializers.PrimaryKeyRelatedField(queryset=Folder.objects.all(), allow_null=True, default=None)
    devices = serializers.ListField(child=serializers.CharField(max_length=80), default=list)


class GroupChange(Strict):
    """What to change of a group; what is left out stays."""

    name = serializers.CharField(max_length=80, required=False)
    note = serializers.CharField(max_length=500, allow_blank=True, required=False)
    rule = serializers.CharField(required=False, trim_whitespace=False)
    folder_id = serializers.PrimaryKeyRelatedField(queryset=Folder.objects.all(), allow_null=True, required=False)


class MemberChange(Strict):
    """Devices, by name or uid, to put in and to take out."""

    add = serializers.ListField(child=serializers.CharField(max_length=80), default=list)
    remove = serializers.ListField(child=serializers.CharField(max_length=80), default=list)


class Changed(serializers.Serializer[Any]):
    joined = serializers.IntegerField()
    left = serializers.IntegerField()


class RuleQuestion(Strict):
    """A rule to try. With `group`, joins and leaves compare with that group's members."""

    rule = serializers.CharField(allow_blank=True, trim_whitespace=False, max_length=2_000_000)
    limit = serializers.IntegerField(min_value=0, max_value=1000, default=50)
    group = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), allow_null=True, default=None)


class RulePreview(serializers.Serializer[Any]):
    """Who matches. `joins`, `leaves` and their devices only where a group was named."""

    count = serializers.IntegerField()
    fleet = serializers.IntegerField()
    devices = DeviceRow(many=True)
    took_ms = serializers.FloatField()
    as_of = serializers.DateTimeField()
    joins = serializers.IntegerField(allow_null=True)
    leaves = serializers.IntegerField(allow_null=True)
    joining = DeviceRow(many=True)
    leaving = DeviceRow(many=True)


class ExplainQuestion(Strict):
    """Why is this device (id, name or uid) matched, or not?"""

    rule = serializers.CharField(allow_blank=True, trim_whitespace=False, max_length=2_000_000)
    device = serializers.CharField(max_length=80)


class ClauseAnswer(serializers.Serializer[Any]):
    text = serializers.CharField()
    true = serializers.BooleanField()
    value = serializers.CharField()
    why = serializers.CharField()


class Explanation(serializers.Serializer[Any]):
    member = serializers.BooleanField()
    device = serializers.CharField()
    clauses = ClauseAnswer(many=True)


class FolderRow(serializers.ModelSerializer[Folder]):
    """A folder with how many distinct devices are in its groups."""

    device_count = serializers.IntegerField()

    class Meta:
        model = Folder
        fields = ("id", "name", "parent", "device_count")
