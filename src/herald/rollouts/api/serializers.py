"""Rollouts as the API shows and takes them."""

from typing import Any

from rest_framework import serializers

from herald.deliveries.models import PHASES
from herald.fleet.models import Device, DeviceModel
from herald.groups.api.serializers import NAMED_DEVICES
from herald.groups.models import Group
from herald.http.fields import NamedThing, SentencePart, StrictSerializer
from herald.images.models import Image
from herald.rollouts.compose.usual_hours import UsualHours
from herald.rollouts.models import RingKindChoice, RingPlanVersion, RolloutState, StoredForecast, TargetChoice
from herald.rollouts.watch.sentence import title_of
from herald_core.rollouts.status import GateState, State

#: a rollout that does not say otherwise has its devices begin over so many minutes
SPREAD_MINUTES = 15
#: no fleet is larger
MOST_DEVICES = 10_000_000


class RingDraftBody(StrictSerializer):
    """One ring: `group_id` with kind group, `share_pct` (of those left) with share, `number` with number. A `share_pct`
    with kind group is of its members that are left."""

    name = serializers.CharField(max_length=60)
    kind = serializers.ChoiceField(choices=RingKindChoice.choices)
    group_id = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), allow_null=True, default=None)
    share_pct = serializers.FloatField(min_value=0.01, max_value=100, allow_null=True, default=None)
    number = serializers.IntegerField(min_value=1, max_value=1_000_000, allow_null=True, default=None)
    confirmed_pct = serializers.FloatField(min_value=1, max_value=100, default=95.0)
    soak_minutes = serializers.IntegerField(min_value=0, max_value=100_000, default=60)
    max_unreached = serializers.IntegerField(min_value=0, max_value=MOST_DEVICES, allow_null=True, default=None)
    min_tried = serializers.IntegerField(min_value=1, max_value=MOST_DEVICES, allow_null=True, default=None)
    needs_approval = serializers.BooleanField(default=False)


class ChangeBody(StrictSerializer):
    """A row of the change table. `model_id` null is any model that the target is for; `uplink` and `from_version`
    empty are any. `image_id` with choice image, `within` (like 5.1) with choice within."""

    model_id = serializers.PrimaryKeyRelatedField(queryset=DeviceModel.objects.all(), allow_null=True, default=None)
    uplink = serializers.CharField(max_length=60, allow_blank=True, default="")
    from_version = serializers.CharField(max_length=64, allow_blank=True, default="")
    choice = serializers.ChoiceField(choices=TargetChoice.choices)
    image_id = serializers.PrimaryKeyRelatedField(queryset=Image.objects.all(), allow_null=True, default=None)
    within = serializers.CharField(max_length=64, allow_blank=True, default="")


class RolloutWordsBody(StrictSerializer):
    """What the sentence of a rollout says of it, but for its rings."""

    changes = ChangeBody(many=True)
    downgrades = serializers.BooleanField(default=False)
    follows_audience = serializers.BooleanField(default=False)
    max_concurrent_per_site = serializers.IntegerField(min_value=1, allow_null=True, default=None)
    max_starts_per_hour = serializers.IntegerField(min_value=1, allow_null=True, default=None)
    spread_minutes = serializers.IntegerField(min_value=0, max_value=7 * 24 * 60, default=SPREAD_MINUTES)
    freeze_override_reason = serializers.CharField(max_length=300, allow_blank=True, default="")
    notice = serializers.CharField(max_length=300, allow_blank=True, default="")
    defer_times = serializers.IntegerField(min_value=1, max_value=100, allow_null=True, default=None)
    defer_until = serializers.DateTimeField(allow_null=True, default=None)
    include = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), many=True)
    include_devices = NAMED_DEVICES
    exclude = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), many=True, default=list)
    rule_filter = serializers.CharField(max_length=10_000, allow_blank=True, default="")
    window_start = serializers.TimeField(allow_null=True, default=None)
    window_end = serializers.TimeField(allow_null=True, default=None)
    window_days = serializers.ListField(child=serializers.IntegerField(min_value=0, max_value=6), default=list)
    starts_at = serializers.DateTimeField(allow_null=True, default=None)
    ends_at = serializers.DateTimeField(allow_null=True, default=None)
    prefetch = serializers.BooleanField(default=False)
    prefetch_start = serializers.TimeField(allow_null=True, default=None)
    prefetch_end = serializers.TimeField(allow_null=True, default=None)
    failure_limit_pct = serializers.FloatField(min_value=0.01, max_value=99, default=2.0)


class RolloutDraftBody(RolloutWordsBody):
    """A rollout as it is written down. Times of day are by each device's own clock; a window of null is any hour, and
    where none is said, `rollouts_usual_hours` says which it is. `purpose` is why the rollout is there."""

    window_start = serializers.TimeField(allow_null=True, required=False)
    window_end = serializers.TimeField(allow_null=True, required=False)
    window_days = serializers.ListField(child=serializers.IntegerField(min_value=0, max_value=6), required=False)
    name = serializers.CharField(max_length=80, allow_blank=True, default="")
    purpose = serializers.CharField(max_length=300, allow_blank=True, default="")
    ticket = serializers.CharField(max_length=200, allow_blank=True, default="")

    late_limit = serializers.IntegerField(min_value=0, max_value=MOST_DEVICES, allow_null=True, default=None)
    plan_version_id = serializers.PrimaryKeyRelatedField(
        queryset=RingPlanVersion.objects.all(), allow_null=True, default=None
    )
    rings = RingDraftBody(many=True)
    expires_after_hours = serializers.IntegerField(min_value=1, max_value=24 * 365, default=14 * 24)
    failure_count_limit = serializers.IntegerField(min_value=1, allow_null=True, default=None)
    max_concurrent = serializers.IntegerField(min_value=1, max_value=1_000_000, default=200)
    max_attempts = serializers.IntegerField(min_value=1, max_value=20, default=2)


class RolloutSentenceBody(RolloutWordsBody):
    """What the sentence of a draft says; the draft need not be complete. `ring_count` is how many rings it has,
    `rolls_back_id` the rollout that it rolls back."""

    ring_count = serializers.IntegerField(min_value=0)
    rolls_back_id = serializers.IntegerField(allow_null=True, default=None)


class UsualHoursBody(StrictSerializer):
    """Of a draft what the usual hours depend on."""

    images = serializers.PrimaryKeyRelatedField(queryset=Image.objects.all(), many=True, default=list)
    include = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), many=True, default=list)
    exclude = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), many=True, default=list)
    include_devices = NAMED_DEVICES


class UsualHoursView(serializers.Serializer[Any]):
    """The hours last used for these models, and the rollout that had them; 01:00 to 05:00 where none had any."""

    window_start = serializers.TimeField()
    window_end = serializers.TimeField()
    window_days = serializers.ListField(child=serializers.IntegerField())
    rollout_id = serializers.IntegerField(source="rollout.pk", default=None, allow_null=True)
    rollout = serializers.SerializerMethodField()

    def get_rollout(self, hours: UsualHours) -> str:
        return title_of(hours.rollout) if hours.rollout else ""


class LaunchBody(StrictSerializer):
    """`devices` is the number of devices that preflight says the launch reaches; `reason` says why an image is sent
    that failed before."""

    devices = serializers.IntegerField(min_value=0)
    reason = serializers.CharField(max_length=300, allow_blank=True, default="")


class CriterionView(serializers.Serializer[Any]):
    """Shares and rates are 0 to 1, the soak is in seconds, an approval is 1 once it is given."""

    name = serializers.CharField()
    measured = serializers.FloatField()
    needed = serializers.FloatField()
    met = serializers.BooleanField()


class StatusView(serializers.Serializer[Any]):
    """Where a rollout stands: `words` say it, `until` when that is known to end. `devices` are those it speaks of, of
    which `unheard` are not heard from in time; `ring` is the position of the ring it is about."""

    code = serializers.ChoiceField(choices=list(State))
    words = serializers.CharField()
    ring = serializers.IntegerField(allow_null=True)
    devices = serializers.IntegerField()
    unheard = serializers.IntegerField()
    until = serializers.DateTimeField(allow_null=True)


class GateView(serializers.Serializer[Any]):
    """How the gate after a ring stands."""

    code = serializers.ChoiceField(choices=list(GateState))
    words = serializers.CharField()
    until = serializers.DateTimeField(allow_null=True)


class RingView(serializers.Serializer[Any]):
    """A ring as it stands. `phases` counts its deliveries; of those confirmed `lost` were lost since, and of those in
    hand `unheard` are not heard from in time."""

    id = serializers.IntegerField()
    position = serializers.IntegerField()
    name = serializers.CharField()
    kind = serializers.ChoiceField(choices=RingKindChoice.choices)
    group = NamedThing(allow_null=True)
    share_pct = serializers.FloatField(allow_null=True)
    number = serializers.IntegerField(allow_null=True)
    confirmed_pct = serializers.FloatField()
    soak_minutes = serializers.IntegerField()
    max_unreached = serializers.IntegerField(allow_null=True)
    min_tried = serializers.IntegerField(allow_null=True)
    lost = serializers.IntegerField()
    tried = serializers.IntegerField(help_text="devices that carried the order out, whichever way it ended")
    needs_approval = serializers.BooleanField()
    approved_by = serializers.CharField(allow_null=True)
    opened_at = serializers.DateTimeField(allow_null=True)
    gate_met_at = serializers.DateTimeField(allow_null=True)
    size = serializers.IntegerField()
    phases = serializers.DictField(child=serializers.IntegerField())
    unheard = serializers.IntegerField()
    criteria = CriterionView(many=True)
    gate = GateView()
    stuck = serializers.BooleanField()


class StoredForecastView(serializers.ModelSerializer[StoredForecast]):
    """When a running rollout is expected to be through, as forecast at `at`; a moment is null where it may not be."""

    class Meta:
        model = StoredForecast
        fields = ("at", "low", "median", "high")


class RolloutRow(serializers.Serializer[Any]):
    """A rollout in a list. `phases` counts all its deliveries."""

    id = serializers.IntegerField()
    state = serializers.ChoiceField(choices=RolloutState.choices)
    status = StatusView()
    reason = serializers.CharField()
    name = serializers.CharField()
    purpose = serializers.CharField()
    ticket = serializers.CharField()
    sentence = SentencePart(many=True)
    target = serializers.CharField()
    rank = serializers.IntegerField()
    audience = serializers.CharField()
    phases = serializers.DictField(child=serializers.IntegerField())
    quarantined = serializers.CharField()
    rings = RingView(many=True)
    total = serializers.IntegerField()
    tried = serializers.IntegerField(help_text="devices that carried the order out, whichever way it ended")
    launched_at = serializers.DateTimeField(allow_null=True)
    launched_by = serializers.CharField(allow_null=True)
    created_at = serializers.DateTimeField()
    ended_at = serializers.DateTimeField(allow_null=True)
    forecast = StoredForecastView(allow_null=True)


class ChangeView(serializers.Serializer[Any]):
    """A row of the change table as it is kept, with the names of what it names."""

    model_id = serializers.IntegerField(allow_null=True)
    model = serializers.CharField()
    uplink = serializers.CharField()
    from_version = serializers.CharField()
    choice = serializers.ChoiceField(choices=TargetChoice.choices)
    image_id = serializers.IntegerField(allow_null=True)
    image = serializers.CharField()
    within = serializers.CharField()


class HeldCount(serializers.Serializer[Any]):
    """How many waiting devices somebody holds back for a reason."""

    reason = serializers.CharField()
    count = serializers.IntegerField()


class ErrorCount(serializers.Serializer[Any]):
    """How many devices have this error word as their last."""

    error = serializers.CharField()
    count = serializers.IntegerField()


class RolloutDetail(RolloutRow):
    """A rollout with its settings, as they can be edited while it is a draft."""

    changes = ChangeView(many=True)
    include = NamedThing(many=True)
    exclude = NamedThing(many=True)
    include_devices = NamedThing(many=True)
    include_device_count = serializers.IntegerField()
    rule_filter = serializers.CharField()
    window_start = serializers.TimeField(allow_null=True)
    window_end = serializers.TimeField(allow_null=True)
    window_days = serializers.ListField(child=serializers.IntegerField())
    starts_at = serializers.DateTimeField(allow_null=True)
    ends_at = serializers.DateTimeField(allow_null=True)
    expires_after_hours = serializers.IntegerField()
    failure_limit_pct = serializers.FloatField()
    failure_count_limit = serializers.IntegerField(allow_null=True)
    max_concurrent = serializers.IntegerField()
    max_attempts = serializers.IntegerField()
    rolls_back_id = serializers.IntegerField(allow_null=True)
    rolled_back_by = serializers.ListField(child=serializers.IntegerField())
    downgrades = serializers.BooleanField()
    follows_audience = serializers.BooleanField()
    late_limit = serializers.IntegerField(allow_null=True)
    late_limit_in_force = serializers.IntegerField()
    late_joiners = serializers.IntegerField()
    late_joiners_waiting = serializers.IntegerField()
    launched_despite = serializers.CharField()
    max_concurrent_per_site = serializers.IntegerField(allow_null=True)
    max_starts_per_hour = serializers.IntegerField(allow_null=True)
    spread_minutes = serializers.IntegerField()
    prefetch = serializers.BooleanField()
    prefetch_start = serializers.TimeField(allow_null=True)
    prefetch_end = serializers.TimeField(allow_null=True)
    with_file = serializers.IntegerField()
    freeze_override_reason = serializers.CharField()
    overridden_by = serializers.CharField(allow_null=True)
    override_approved_by = serializers.CharField(allow_null=True)
    notice = serializers.CharField()
    defer_times = serializers.IntegerField(allow_null=True)
    defer_until = serializers.DateTimeField(allow_null=True)
    plan_version_id = serializers.IntegerField(allow_null=True)
    plan = serializers.CharField()
    taken_out = serializers.IntegerField()
    left_out = serializers.IntegerField()
    mid_install = serializers.IntegerField()
    removed_devices = serializers.IntegerField(help_text="devices removed for good since, which no count includes")
    errors = ErrorCount(many=True)
    held = HeldCount(many=True)


class OutcomeCount(serializers.Serializer[Any]):
    outcome = serializers.CharField()
    words = serializers.CharField()
    amounts = serializers.CharField(help_text="what they need and have, where it is too little; else empty")
    takes_part = serializers.BooleanField()
    count = serializers.IntegerField()


class LackingCount(serializers.Serializer[Any]):
    """Devices that take part, though their firmware has not got a capability that the rollout makes use of."""

    capability = serializers.CharField()
    words = serializers.CharField()
    count = serializers.IntegerField()


class ShareView(serializers.Serializer[Any]):
    field = serializers.CharField()
    value = serializers.CharField()
    in_ring = serializers.FloatField()
    in_all = serializers.FloatField()


class RingForecast(serializers.Serializer[Any]):
    """A ring as it would be. `detects` is the chance that it shows a fault at the failure limit's rate;
    `largest_difference` of a value's share between it and all devices, and `variation` the largest total variation of
    a field, say how far it is from them (0 to 1)."""

    position = serializers.IntegerField()
    name = serializers.CharField()
    devices = serializers.IntegerField()
    detects = serializers.FloatField()
    largest_difference = serializers.FloatField()
    variation = serializers.FloatField()
    shares = ShareView(many=True)


class HowMany(serializers.Serializer[Any]):
    value = serializers.CharField()
    count = serializers.IntegerField()


class ModelInAudience(serializers.Serializer[Any]):
    """A model of the audience: what it runs, over which uplinks, what it is to get, and how many go by steps."""

    model = serializers.CharField()
    devices = serializers.IntegerField()
    versions = HowMany(many=True)
    uplinks = HowMany(many=True)
    targets = HowMany(many=True)
    without_target = serializers.IntegerField()
    left_out = serializers.IntegerField()
    via = serializers.IntegerField()


class PreflightView(serializers.Serializer[Any]):
    """Who would take part and who not. `reached` is the number that a launch asks for, by how many it may
    be out `leeway`, and how many installs come before the last ones `hops`."""

    audience = serializers.IntegerField()
    reached = serializers.IntegerField()
    leeway = serializers.IntegerField()
    in_no_ring = serializers.IntegerField()
    outcomes = OutcomeCount(many=True)
    lacking = LackingCount(many=True)
    rings = RingForecast(many=True)
    devices_for_95 = serializers.IntegerField()
    models = ModelInAudience(many=True)
    hops = serializers.IntegerField()
    past_failures = serializers.ListField(child=serializers.CharField())


class OutcomeDevice(serializers.ModelSerializer[Device]):
    """A device behind one count of a preflight. `amounts` are what it needs and has, where it has too little."""

    model = serializers.CharField(source="model.name")
    amounts = serializers.SerializerMethodField()

    class Meta:
        model = Device
        fields = ("id", "name", "model", "firmware", "hardware_revision", "amounts")

    def get_amounts(self, device: Device) -> str:
        return str(self.context["short"].get(device.pk, ""))


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


class RingDevices(serializers.Serializer[Any]):
    """The deliveries of a ring, one mark each; none where the ring is too large to draw so."""

    ring = serializers.IntegerField()
    marks = Mark(many=True)


class ProgressPoint(serializers.Serializer[Any]):
    at = serializers.DateTimeField()
    confirmed = serializers.IntegerField()
