"""Rollouts as the API shows and takes them."""

from typing import Any

from rest_framework import serializers

from herald.api.fields import NamedThing, SentencePart, Strict
from herald.deliveries.models import PHASES
from herald.fleet.models import Device
from herald.groups.models import Group
from herald.images.models import Image
from herald.rollouts.models import RingKindChoice, RolloutState


class RingDraftBody(Strict):
    """One ring: `group_id` with kind group, `share_pct` (of those left) with share, `number` with number."""

    name = serializers.CharField(max_length=60)
    kind = serializers.ChoiceField(choices=RingKindChoice.choices)
    group_id = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), allow_null=True, default=None)
    share_pct = serializers.FloatField(min_value=0.01, max_value=100, allow_null=True, default=None)
    number = serializers.IntegerField(min_value=1, max_value=1_000_000, allow_null=True, default=None)
    confirmed_pct = serializers.FloatField(min_value=1, max_value=100, default=95.0)
    soak_minutes = serializers.IntegerField(min_value=0, max_value=100_000, default=60)


class RolloutDraftBody(Strict):
    """A rollout as it is written down. Times of day are by each device's own clock."""

    image_id = serializers.PrimaryKeyRelatedField(queryset=Image.objects.all())
    include = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), many=True)
    exclude = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), many=True, default=list)
    rings = RingDraftBody(many=True)
    window_start = serializers.TimeField(allow_null=True, default=None)
    window_end = serializers.TimeField(allow_null=True, default=None)
    window_days = serializers.ListField(child=serializers.IntegerField(min_value=0, max_value=6), default=list)
    starts_at = serializers.DateTimeField(allow_null=True, default=None)
    give_up_after_hours = serializers.IntegerField(min_value=1, max_value=24 * 365, default=14 * 24)
    failure_limit_pct = serializers.FloatField(min_value=0.01, max_value=99, default=2.0)
    failure_count_limit = serializers.IntegerField(min_value=1, allow_null=True, default=None)
    at_once = serializers.IntegerField(min_value=1, max_value=1_000_000, default=200)
    max_attempts = serializers.IntegerField(min_value=1, max_value=20, default=2)


class LaunchBody(Strict):
    """`devices` is the number of devices that preflight says the launch reaches."""

    devices = serializers.IntegerField(min_value=0)


class CriterionView(serializers.Serializer[Any]):
    """Shares and rates are 0 to 1, the soak is in seconds."""

    name = serializers.CharField()
    measured = serializers.FloatField()
    needed = serializers.FloatField()
    met = serializers.BooleanField()


class RingView(serializers.Serializer[Any]):
    """A ring as it stands. `phases` counts its deliveries."""

    id = serializers.IntegerField()
    position = serializers.IntegerField()
    name = serializers.CharField()
    kind = serializers.ChoiceField(choices=RingKindChoice.choices)
    group = NamedThing(allow_null=True)
    share_pct = serializers.FloatField(allow_null=True)
    number = serializers.IntegerField(allow_null=True)
    confirmed_pct = serializers.FloatField()
    soak_minutes = serializers.IntegerField()
    opened_at = serializers.DateTimeField(allow_null=True)
    gate_met_at = serializers.DateTimeField(allow_null=True)
    size = serializers.IntegerField()
    phases = serializers.DictField(child=serializers.IntegerField())
    criteria = CriterionView(many=True)
    stuck = serializers.BooleanField()


class RolloutRow(serializers.Serializer[Any]):
    """A rollout in a list. `phases` counts all its deliveries."""

    id = serializers.IntegerField()
    state = serializers.ChoiceField(choices=RolloutState.choices)
    reason = serializers.CharField()
    sentence = SentencePart(many=True)
    image = serializers.CharField()
    audience = serializers.CharField()
    phases = serializers.DictField(child=serializers.IntegerField())
    rings = RingView(many=True)
    total = serializers.IntegerField()
    launched_at = serializers.DateTimeField(allow_null=True)
    launched_by = serializers.CharField(allow_null=True)
    created_at = serializers.DateTimeField()
    ended_at = serializers.DateTimeField(allow_null=True)


class HeldCount(serializers.Serializer[Any]):
    """How many waiting devices somebody holds back for a reason."""

    reason = serializers.CharField()
    count = serializers.IntegerField()


class RolloutDetail(RolloutRow):
    """A rollout with its settings, as they can be edited while it is a draft."""

    image_id = serializers.IntegerField()
    include = NamedThing(many=True)
    exclude = NamedThing(many=True)
    window_start = serializers.TimeField(allow_null=True)
    window_end = serializers.TimeField(allow_null=True)
    window_days = serializers.ListField(child=serializers.IntegerField())
    starts_at = serializers.DateTimeField(allow_null=True)
    give_up_after_hours = serializers.IntegerField()
    failure_limit_pct = serializers.FloatField()
    failure_count_limit = serializers.IntegerField(allow_null=True)
    at_once = serializers.IntegerField()
    max_attempts = serializers.IntegerField()
    left_out = serializers.IntegerField()
    mid_install = serializers.IntegerField()
    errors = serializers.ListField(child=serializers.DictField())
    held = HeldCount(many=True)


class OutcomeCount(serializers.Serializer[Any]):
    outcome = serializers.CharField()
    words = serializers.CharField()
    takes_part = serializers.BooleanField()
    count = serializers.IntegerField()


class ShareView(serializers.Serializer[Any]):
    field = serializers.CharField()
    value = serializers.CharField()
    in_ring = serializers.FloatField()
    in_all = serializers.FloatField()


class RingForecast(serializers.Serializer[Any]):
    """A ring as it would be. `detects` is the chance that it shows a fault at the failure limit's rate."""

    position = serializers.IntegerField()
    name = serializers.CharField()
    devices = serializers.IntegerField()
    detects = serializers.FloatField()
    shares = ShareView(many=True)


class PreflightView(serializers.Serializer[Any]):
    """Who would take part and who not. `reached` is the number that a launch asks for."""

    audience = serializers.IntegerField()
    reached = serializers.IntegerField()
    in_no_ring = serializers.IntegerField()
    outcomes = OutcomeCount(many=True)
    rings = RingForecast(many=True)
    devices_for_95 = serializers.IntegerField()


class OutcomeDevice(serializers.ModelSerializer[Device]):
    """A device behind one count of a preflight."""

    model = serializers.CharField(source="model.name")

    class Meta:
        model = Device
        fields = ("id", "name", "model", "firmware", "hardware_revision")


class Effect(serializers.Serializer[Any]):
    """What an action did. `finishing` devices are mid-install and will finish."""

    state = serializers.ChoiceField(choices=RolloutState.choices)
    withdrawn = serializers.IntegerField()
    finishing = serializers.IntegerField()


class Mark(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    device = serializers.CharField()
    phase = serializers.ChoiceField(choices=PHASES)
    held = serializers.BooleanField()


class RingMarks(serializers.Serializer[Any]):
    """The deliveries of a ring, one mark each; none where the ring is too large to draw so."""

    ring = serializers.IntegerField()
    marks = Mark(many=True)


class ProgressPoint(serializers.Serializer[Any]):
    at = serializers.DateTimeField()
    confirmed = serializers.IntegerField()


class HoldQuestion(Strict):
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


class SharedByFailed(serializers.Serializer[Any]):
    """What the failed share with each other and not with the confirmed; no cause is a finding too."""

    failed = serializers.IntegerField()
    confirmed = serializers.IntegerField()
    causes = CauseRow(many=True)
