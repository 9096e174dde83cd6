"""Reports of rollouts as the API shows them."""

from typing import Any

from rest_framework import serializers

from herald.rollouts.api.serializers import RolloutDetail


class Milestone(serializers.Serializer[Any]):
    """When so much of those confirmed by an install were, and how many seconds after the launch."""

    share = serializers.FloatField()
    devices = serializers.IntegerField()
    at = serializers.DateTimeField(allow_null=True)
    seconds = serializers.FloatField(allow_null=True)


class RingTimes(serializers.Serializer[Any]):
    """How a ring went."""

    position = serializers.IntegerField()
    name = serializers.CharField()
    devices = serializers.IntegerField()
    confirmed = serializers.IntegerField()
    failed = serializers.IntegerField()
    tried = serializers.IntegerField()
    opened_at = serializers.DateTimeField(allow_null=True)
    first_at = serializers.DateTimeField(allow_null=True)
    last_at = serializers.DateTimeField(allow_null=True)
    gate_met_at = serializers.DateTimeField(allow_null=True)
    approved_by = serializers.CharField(allow_null=True)


class FailureCount(serializers.Serializer[Any]):
    """A cause, and how many attempts ended for it."""

    cause = serializers.CharField()
    attempts = serializers.IntegerField()


class FailedDevice(serializers.Serializer[Any]):
    """A device that failed for good."""

    device = serializers.CharField()
    model = serializers.CharField()
    site = serializers.CharField()
    from_version = serializers.CharField()
    error = serializers.CharField()
    text = serializers.CharField()


class CommonCausesInReport(serializers.Serializer[Any]):
    """A rule that the failed share: of `tried` devices that it matches `failed` failed."""

    rule = serializers.CharField()
    failed = serializers.IntegerField()
    tried = serializers.IntegerField()


class ExcludedCount(serializers.Serializer[Any]):
    """Why devices did not take part, and how many."""

    words = serializers.CharField()
    devices = serializers.IntegerField()


class LengthsView(serializers.Serializer[Any]):
    """Seconds that something took."""

    count = serializers.IntegerField()
    median = serializers.FloatField()
    nine_of_ten = serializers.FloatField()
    longest = serializers.FloatField()


class Act(serializers.Serializer[Any]):
    """What a person or, with an empty name, the system did."""

    at = serializers.DateTimeField()
    who = serializers.CharField()
    what = serializers.CharField()


class ReportView(serializers.Serializer[Any]):
    """A rollout told to its end."""

    rollout = RolloutDetail()
    sentence = serializers.CharField()
    milestones = Milestone(many=True)
    rings = RingTimes(many=True)
    failures = FailureCount(many=True)
    failed_devices = FailedDevice(many=True)
    shared = CommonCausesInReport(many=True)
    left_out = ExcludedCount(many=True)
    fetches = LengthsView()
    installs = LengthsView()
    acts = Act(many=True)
    made_at = serializers.DateTimeField()


class BreakdownRow(serializers.Serializer[Any]):
    """A value of the field, empty for none, and its devices by phase."""

    value = serializers.CharField()
    total = serializers.IntegerField()
    phases = serializers.DictField(child=serializers.IntegerField())


class FreezeOfRollout(serializers.Serializer[Any]):
    """A freeze, and how many devices of the rollout it holds."""

    id = serializers.IntegerField()
    name = serializers.CharField()
    starts_at = serializers.DateTimeField()
    ends_at = serializers.DateTimeField()
    devices = serializers.IntegerField()
