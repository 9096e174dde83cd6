"""Groups and rules as the API shows them."""

from typing import Any

from rest_framework import serializers

from herald.fleet.api.serializers import DeviceRow
from herald.fleet.models import DeviceModel
from herald.groups.audience import MOST_NAMED
from herald.groups.models import Folder, Group, GroupKind
from herald.http.fields import StrictSerializer
from herald_core.rules import Clause
from herald_core.rules.printer import value_text

#: devices that an audience names, by name or uid
NAMED_DEVICES = serializers.ListField(
    child=serializers.CharField(max_length=90), default=list, max_length=MOST_NAMED, help_text="by name or uid"
)


class GroupRow(serializers.ModelSerializer[Group]):
    """A group with how many devices are in it now."""

    folder = serializers.CharField(source="folder.name", default=None, allow_null=True)
    folder_id = serializers.IntegerField(allow_null=True)
    family = serializers.CharField(source="family.name", default=None, allow_null=True)
    only_model = serializers.CharField(source="only_model.name", default=None, allow_null=True)
    member_count = serializers.IntegerField()

    class Meta:
        model = Group
        fields = (
            "id",
            "name",
            "kind",
            "rule",
            "is_time_dependent",
            "note",
            "folder",
            "folder_id",
            "family",
            "only_model",
            "member_count",
            "updated_at",
        )


class GroupUse(serializers.Serializer[Any]):
    kind = serializers.CharField()
    id = serializers.IntegerField()
    sentence = serializers.CharField()
    follows = serializers.BooleanField()


class GroupDetail(GroupRow):
    """A group with what uses it, what follows it, and how many devices are of another model than it is kept to."""

    uses = GroupUse(many=True)
    following = GroupUse(many=True)
    of_other_models = serializers.IntegerField()

    class Meta(GroupRow.Meta):
        fields = (*GroupRow.Meta.fields, "previous_rule", "uses", "following", "of_other_models")


class GroupDraft(StrictSerializer):
    """A new group. `devices` (names or uids) only for one picked by hand, `rule` only for one by rule."""

    name = serializers.CharField(max_length=80)
    kind = serializers.ChoiceField(choices=GroupKind.choices, default=GroupKind.RULE.value)
    rule = serializers.CharField(allow_blank=True, default="", trim_whitespace=False)
    note = serializers.CharField(max_length=500, allow_blank=True, default="")
    folder_id = serializers.PrimaryKeyRelatedField(queryset=Folder.objects.all(), allow_null=True, default=None)
    family = serializers.CharField(max_length=80, allow_blank=True, default="")
    only_model = serializers.SlugRelatedField(
        slug_field="name", queryset=DeviceModel.objects.all(), allow_null=True, default=None
    )
    devices = serializers.ListField(child=serializers.CharField(max_length=80), default=list)


class GroupChange(StrictSerializer):
    """What to change of a group; what is left out stays."""

    name = serializers.CharField(max_length=80, required=False)
    note = serializers.CharField(max_length=500, allow_blank=True, required=False)
    rule = serializers.CharField(required=False, trim_whitespace=False)
    folder_id = serializers.PrimaryKeyRelatedField(queryset=Folder.objects.all(), allow_null=True, required=False)
    family = serializers.CharField(max_length=80, allow_blank=True, required=False)
    only_model = serializers.SlugRelatedField(
        slug_field="name", queryset=DeviceModel.objects.all(), allow_null=True, required=False
    )


class MemberChange(StrictSerializer):
    """Devices, by name or uid, to put in and to take out."""

    add = serializers.ListField(child=serializers.CharField(max_length=80), default=list)
    remove = serializers.ListField(child=serializers.CharField(max_length=80), default=list)
    #: confirms that devices leave other groups of the family
    move = serializers.BooleanField(default=False)


class RuleBody(StrictSerializer):
    rule = serializers.CharField(trim_whitespace=False, max_length=2_000_000)


class Changed(serializers.Serializer[Any]):
    joined = serializers.IntegerField()
    left = serializers.IntegerField()


class RuleQuestion(StrictSerializer):
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


class ExplainQuestion(StrictSerializer):
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


class SieveQuestion(StrictSerializer):
    """A rule to hold against the fleet, with how many just-missed devices to list."""

    rule = serializers.CharField(allow_blank=True, trim_whitespace=False, max_length=2_000_000)
    limit = serializers.IntegerField(min_value=0, max_value=500, default=50)


class ClauseParts(serializers.Serializer[Any]):
    """A clause taken apart; `values` as they are written in a rule."""

    field = serializers.CharField()
    op = serializers.CharField(source="op.value")
    values = serializers.SerializerMethodField()

    def get_values(self, clause: Clause) -> list[str]:
        return [value_text(v) for v in clause.values]


class SieveLine(serializers.Serializer[Any]):
    """A line of the rule. `alone` it lets through, `left` after it and those before; `missing` have no value."""

    text = serializers.CharField()
    clause = ClauseParts(allow_null=True)
    negated = serializers.BooleanField()
    alone = serializers.IntegerField(source="counts.alone")
    left = serializers.IntegerField(source="counts.left")
    stopped_here_only = serializers.IntegerField(source="counts.stopped_here_only")
    missing = serializers.IntegerField()


class MissedDevice(serializers.Serializer[Any]):
    """A device that fails one line only."""

    device = DeviceRow()
    line = serializers.CharField()
    value = serializers.CharField()
    why = serializers.CharField()


class SieveNote(serializers.Serializer[Any]):
    """Something worth a look; `rule` lists the devices it is about."""

    kind = serializers.ChoiceField(choices=["near", "absent", "missing"])
    field = serializers.CharField()
    word = serializers.CharField()
    instead_of = serializers.CharField()
    count = serializers.IntegerField()
    rule = serializers.CharField()


class RuleSieve(serializers.Serializer[Any]):
    """What each line of a rule lets through, who was just missed, and what is worth a look."""

    lines = SieveLine(many=True)
    fleet = serializers.IntegerField()
    count = serializers.IntegerField()
    missed_count = serializers.IntegerField()
    missed = MissedDevice(many=True)
    notes = SieveNote(many=True)
    took_ms = serializers.FloatField()


class CompareQuestion(StrictSerializer):
    """Why are these devices (names or uids) matched, or not?"""

    rule = serializers.CharField(allow_blank=True, trim_whitespace=False, max_length=2_000_000)
    devices = serializers.ListField(child=serializers.CharField(max_length=80), min_length=1, max_length=50)


class Explanations(serializers.Serializer[Any]):
    """Several devices beside each other; `unknown` are words that no device is called."""

    devices = Explanation(many=True)
    unknown = serializers.ListField(child=serializers.CharField())


class CurvePoint(serializers.Serializer[Any]):
    at = serializers.DateTimeField()
    count = serializers.IntegerField()


class MemberChangeRow(serializers.Serializer[Any]):
    """A join or a leave."""

    at = serializers.DateTimeField()
    device = serializers.CharField(source="device.name")
    joined = serializers.BooleanField()
    cause = serializers.CharField()


class GroupHistory(serializers.Serializer[Any]):
    """Members over time, and the latest joins and leaves."""

    curve = CurvePoint(many=True)
    changes = MemberChangeRow(many=True)


class SideBySide(serializers.Serializer[Any]):
    """Two sets of devices: counts, and the first devices of each part."""

    only_first_count = serializers.IntegerField()
    only_second_count = serializers.IntegerField()
    both_count = serializers.IntegerField()
    only_first = DeviceRow(many=True)
    only_second = DeviceRow(many=True)
    both = DeviceRow(many=True)


class ProposedRule(serializers.Serializer[Any]):
    """A rule for the members of a group: who would join and leave by it; nobody, where it is exact."""

    rule = serializers.CharField()
    joins = serializers.IntegerField()
    leaves = serializers.IntegerField()
    joining = DeviceRow(many=True)
    leaving = DeviceRow(many=True)


class OverlapRow(serializers.Serializer[Any]):
    """Devices that are in exactly these of the chosen groups; `rule` lists them."""

    groups = serializers.ListField(child=serializers.IntegerField())
    count = serializers.IntegerField()
    rule = serializers.CharField()


class FolderRow(serializers.Serializer[Any]):
    """A folder with how many distinct devices are in its groups and in those of the folders in it."""

    id = serializers.IntegerField()
    name = serializers.CharField()
    parent = serializers.IntegerField(allow_null=True)
    device_count = serializers.IntegerField()


class FolderDraft(StrictSerializer):
    name = serializers.CharField(max_length=80)
    parent = serializers.PrimaryKeyRelatedField(queryset=Folder.objects.all(), allow_null=True, default=None)


class FolderChange(StrictSerializer):
    """What to change of a folder; without `parent` it stays where it is."""

    name = serializers.CharField(max_length=80, required=False)
    parent = serializers.PrimaryKeyRelatedField(queryset=Folder.objects.all(), allow_null=True, required=False)


class GroupEffectRow(serializers.Serializer[Any]):
    """What a change would do to a group, and what that sets off."""

    id = serializers.IntegerField(source="group.pk")
    name = serializers.CharField(source="group.name")
    joins = serializers.IntegerField()
    leaves = serializers.IntegerField()
    uses = GroupUse(many=True)
