"""What stepping in asks for and answers."""

from typing import Any

from rest_framework import serializers

from herald.groups.models import Group
from herald.http.fields import StrictSerializer
from herald.rollouts.api.serializers import RingDraftBody


class HoldQuestion(StrictSerializer):
    """Which devices of the rollout: by name, or all that a rule matches."""

    rule = serializers.CharField(allow_blank=True, trim_whitespace=False, default="")
    devices = serializers.ListField(child=serializers.CharField(max_length=80), default=list, max_length=10_000)


class HoldBody(HoldQuestion):
    reason = serializers.CharField(max_length=120, allow_blank=True)


class HoldEffect(serializers.Serializer[Any]):
    """`waiting` are not offered until released, `recalled` offers are taken back, `finishing` are beyond recall."""

    waiting = serializers.IntegerField()
    recalled = serializers.IntegerField()
    finishing = serializers.IntegerField()


class ReleaseEffect(serializers.Serializer[Any]):
    released = serializers.IntegerField()


class CauseRow(serializers.Serializer[Any]):
    """A condition that the failed share: tried devices with it and without, and the waiting ones that match."""

    rule = serializers.CharField()
    failed_with = serializers.IntegerField(source="cause.failed_with")
    tried_with = serializers.IntegerField(source="cause.tried_with")
    failed_without = serializers.IntegerField(source="cause.failed_without")
    tried_without = serializers.IntegerField(source="cause.tried_without")
    risk_ratio = serializers.FloatField(source="cause.risk_ratio")
    p = serializers.FloatField(source="cause.p")
    q = serializers.FloatField(source="cause.q")
    waiting = serializers.IntegerField()


class FailedWith(serializers.Serializer[Any]):
    """An error word, and how many devices failed with it."""

    error = serializers.CharField()
    devices = serializers.IntegerField()


class CommonCausesRow(serializers.Serializer[Any]):
    """What the failed share with each other and not with the confirmed; no cause is a finding too. `errors` are the
    words with which they failed, the commonest first."""

    failed = serializers.IntegerField()
    confirmed = serializers.IntegerField()
    errors = FailedWith(many=True)
    causes = CauseRow(many=True)


class DevicesBody(StrictSerializer):
    """Devices by name or uid."""

    devices = serializers.ListField(child=serializers.CharField(max_length=80), allow_empty=False, max_length=10_000)


class DevicesReasonBody(DevicesBody):
    reason = serializers.CharField(max_length=120, allow_blank=True)


class Touched(serializers.Serializer[Any]):
    """How many devices an action touched."""

    devices = serializers.IntegerField()


class GroupsBody(StrictSerializer):
    groups = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), many=True, allow_empty=False)


class ExtensionView(serializers.Serializer[Any]):
    """What more groups bring: `joins` take part, `already` have the version, `has_already` get nothing again."""

    joins = serializers.IntegerField()
    already = serializers.IntegerField()
    left_out = serializers.IntegerField()
    has_already = serializers.IntegerField()


class GateBody(StrictSerializer):
    """The gate after the ring in this place."""

    ring = serializers.IntegerField(min_value=1)


class OrderBody(StrictSerializer):
    """The ids of all open rollouts, the highest rank first."""

    order = serializers.ListField(child=serializers.IntegerField(), max_length=1000)


class RemainingRing(StrictSerializer):
    """What is to be changed of a ring whose gate is not met; `position` says which."""

    position = serializers.IntegerField(min_value=1)
    confirmed_pct = serializers.FloatField(min_value=1, max_value=100, required=False)
    soak_minutes = serializers.IntegerField(min_value=0, max_value=100_000, required=False)
    max_unreached = serializers.IntegerField(min_value=0, allow_null=True, required=False)
    min_tried = serializers.IntegerField(min_value=1, allow_null=True, required=False)
    needs_approval = serializers.BooleanField(required=False)


class EditOpenBody(StrictSerializer):
    """What is to be changed of an open rollout; what is left out stays as it is. `goes_first` puts it before all other
    open rollouts, so that those which want the same devices wait for it."""

    window_start = serializers.TimeField(allow_null=True, required=False)
    window_end = serializers.TimeField(allow_null=True, required=False)
    window_days = serializers.ListField(child=serializers.IntegerField(min_value=0, max_value=6), required=False)
    ends_at = serializers.DateTimeField(allow_null=True, required=False)
    prefetch = serializers.BooleanField(required=False)
    prefetch_start = serializers.TimeField(allow_null=True, required=False)
    prefetch_end = serializers.TimeField(allow_null=True, required=False)
    failure_limit_pct = serializers.FloatField(min_value=0.01, max_value=99, required=False)
    failure_count_limit = serializers.IntegerField(min_value=1, allow_null=True, required=False)
    max_concurrent = serializers.IntegerField(min_value=1, max_value=1_000_000, required=False)
    max_concurrent_per_site = serializers.IntegerField(min_value=1, allow_null=True, required=False)
    max_starts_per_hour = serializers.IntegerField(min_value=1, allow_null=True, required=False)
    spread_minutes = serializers.IntegerField(min_value=0, max_value=7 * 24 * 60, required=False)
    freeze_override_reason = serializers.CharField(max_length=300, allow_blank=True, required=False)
    goes_first = serializers.BooleanField(required=False)
    rings = RemainingRing(many=True, default=list)


class DifferenceRow(serializers.Serializer[Any]):
    """One thing that a change does; `ring` is null for all of the rollout."""

    what = serializers.CharField()
    ring = serializers.IntegerField(allow_null=True)
    before = serializers.CharField()
    after = serializers.CharField()


class RingAheadBody(RingDraftBody):
    """A ring that is to be ahead; `id` says which of those that are, null makes a new one."""

    id = serializers.IntegerField(allow_null=True, default=None)


class RingsAheadBody(StrictSerializer):
    """All the rings that are to be ahead of those that have opened, in the order in which they open."""

    rings = RingAheadBody(many=True)


class RingOutcomeRow(serializers.Serializer[Any]):
    """A ring as it would be: `was` is its place now and `before` how many devices wait in it now, both null where it is
    new; `after` how many would."""

    position = serializers.IntegerField()
    name = serializers.CharField()
    was = serializers.IntegerField(allow_null=True)
    before = serializers.IntegerField(allow_null=True)
    after = serializers.IntegerField()


class RingRemovedRow(serializers.Serializer[Any]):
    position = serializers.IntegerField()
    name = serializers.CharField()
    devices = serializers.IntegerField()


class RingsOutcomeView(serializers.Serializer[Any]):
    """What it does to have these rings ahead: `moving` devices would be in another ring than now, `unplaced` in none,
    which is refused; `same` says that nothing would change."""

    rings = RingOutcomeRow(many=True)
    removed = RingRemovedRow(many=True)
    moving = serializers.IntegerField()
    unplaced = serializers.IntegerField()
    same = serializers.BooleanField()


class WordsBody(StrictSerializer):
    """What people call a rollout, why it is there, and where that is written down."""

    name = serializers.CharField(max_length=80, allow_blank=True)
    purpose = serializers.CharField(max_length=300, allow_blank=True, default="")
    ticket = serializers.CharField(max_length=200, allow_blank=True, default="")
