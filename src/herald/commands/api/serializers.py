"""Scheduled commands as the API shows and takes them."""

from typing import Any

from rest_framework import serializers

from herald.commands.models import FreezeChoice, LateChoice, OverlapChoice, ScheduleState, When
from herald.deliveries.api.serializers import ConflictRow
from herald.fleet.models import DeviceModel
from herald.groups.api.fields import GroupNameOrId
from herald.groups.api.serializers import NAMED_DEVICES
from herald.http.fields import NamedThing, SentencePart, StrictSerializer
from herald_core.actions import Action, Harm
from herald_core.schedules import ScheduleStatus


class ScheduleDraftBody(StrictSerializer):
    """A command. `template` is the key of one, or its name; groups are given by id or name. `starts_on`, `time_of_day`
    and `excluded` (like 2026-12-24T05:30) are local times by `clock`: `device` is each device's own, a zone of the IANA
    database one clock for all. `rule` is an RRULE of RFC 5545."""

    template = serializers.CharField(max_length=60, default="restart")
    parameters = serializers.DictField(default=dict)
    name = serializers.CharField(max_length=80, allow_blank=True, default="")
    reason = serializers.CharField(max_length=300, allow_blank=True, default="")
    ticket = serializers.CharField(max_length=200, allow_blank=True, default="")
    include = serializers.ListField(child=GroupNameOrId())
    exclude = serializers.ListField(child=GroupNameOrId(), default=list)
    include_devices = NAMED_DEVICES
    when = serializers.ChoiceField(choices=When.choices)
    clock = serializers.CharField(max_length=64, default="device")
    starts_on = serializers.DateField(allow_null=True, default=None)
    time_of_day = serializers.TimeField(allow_null=True, default=None)
    rule = serializers.CharField(max_length=500, allow_blank=True, default="")
    excluded = serializers.ListField(child=serializers.CharField(max_length=40), default=list)
    spread_minutes = serializers.IntegerField(min_value=0, max_value=10_079, default=20)
    expires_after_minutes = serializers.IntegerField(min_value=1, max_value=10_080, default=120)
    max_concurrent = serializers.IntegerField(min_value=1, max_value=1_000_000, default=500)
    at_once_per_site = serializers.IntegerField(min_value=1, max_value=1_000_000, allow_null=True, default=None)
    freezes = serializers.ChoiceField(choices=FreezeChoice.choices, default=FreezeChoice.WAIT.value)
    late = serializers.ChoiceField(choices=LateChoice.choices, default=LateChoice.DROP.value)
    overlap = serializers.ChoiceField(choices=OverlapChoice.choices, default=OverlapChoice.WAIT.value)


class NewScheduleBody(ScheduleDraftBody):
    """`devices` is the number of devices that the preview gave: asked for where a disruptive command runs now."""

    devices = serializers.IntegerField(min_value=0, default=0)


class ScheduleChangeBody(ScheduleDraftBody):
    """`revision` is the one that was read: a change on top of another one is refused."""

    revision = serializers.IntegerField(min_value=1)


class SkipBody(StrictSerializer):
    """`local_time` is the firing that was shown as the next, like 2026-12-24T05:30."""

    local_time = serializers.CharField(max_length=40)


class RunBody(StrictSerializer):
    """`devices` is the number of devices that it was shown to run on."""

    devices = serializers.IntegerField(min_value=0, default=0)


class FiringView(serializers.Serializer[Any]):
    """`shift` says what a clock change does to it: skipped (it runs at the first moment after), or
    twice (it runs the first time only)."""

    at = serializers.DateTimeField()
    local_time = serializers.CharField()
    shift = serializers.CharField(allow_blank=True)


class ZoneFiringsView(serializers.Serializer[Any]):
    zone = serializers.CharField()
    devices = serializers.IntegerField()
    firings = FiringView(many=True)
    shifted = FiringView(allow_null=True)


class SchedulePreview(serializers.Serializer[Any]):
    """The next firings per zone, with the next one to which a clock change does something, and how many devices it
    would be for now. `rule` is the rule in the form in which it is kept.

    The firmware of `unsupported_count` devices of its groups cannot do it; `unable_rule` finds them. A freeze holds
    `frozen` of the others now; it would run on `reached_now` of them now.
    """

    devices = serializers.IntegerField()
    unsupported_count = serializers.IntegerField()
    unable_rule = serializers.CharField()
    harm = serializers.ChoiceField(choices=[h.value for h in Harm])
    frozen = serializers.IntegerField()
    reached_now = serializers.IntegerField()
    conflicts = ConflictRow(many=True)
    rule = serializers.CharField()
    needs_second = serializers.BooleanField()
    zones = ZoneFiringsView(many=True)


class ScheduleChangePreview(serializers.Serializer[Any]):
    """What a change would do. `waiting` and `in_hand` devices have a firing that is under way already: it stays as it
    was ordered."""

    preview = SchedulePreview()
    zones_before = ZoneFiringsView(many=True)
    devices_before = serializers.IntegerField()
    waiting = serializers.IntegerField()
    in_hand = serializers.IntegerField()


class OccurrenceRow(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    zone = serializers.CharField()
    fires_at = serializers.DateTimeField()
    expires_at = serializers.DateTimeField()
    local_time = serializers.CharField()
    audience = serializers.IntegerField()
    unsupported_count = serializers.IntegerField()
    frozen = serializers.IntegerField()
    overlapping = serializers.IntegerField()
    only_totals = serializers.BooleanField(help_text="what became of each device is kept no longer")
    phases = serializers.DictField(child=serializers.IntegerField())


class ScheduleStatusView(serializers.Serializer[Any]):
    """Where a scheduled command stands: `words` say it; `devices` are those they speak of."""

    code = serializers.ChoiceField(choices=list(ScheduleStatus))
    words = serializers.CharField()
    devices = serializers.IntegerField()


class OfferRow(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    name = serializers.CharField()
    from_version = serializers.CharField()
    to_version = serializers.CharField()


class TemplateRow(serializers.Serializer[Any]):
    """What a command can be made from. `phrase` begins its sentence; `schema` is the JSON Schema of its parameters;
    `models` offer it, where it is not left to what models can do."""

    key = serializers.CharField()
    name = serializers.CharField()
    phrase = serializers.CharField()
    note = serializers.CharField()
    action = serializers.ChoiceField(choices=[a.value for a in Action])
    action_name = serializers.CharField()
    schema = serializers.JSONField()
    harm = serializers.ChoiceField(choices=[h.value for h in Harm])
    minutes = serializers.IntegerField()
    is_built_in = serializers.BooleanField()
    is_retired = serializers.BooleanField()
    models = OfferRow(many=True)


class OfferBody(StrictSerializer):
    model = serializers.PrimaryKeyRelatedField(queryset=DeviceModel.objects.all())
    from_version = serializers.CharField(max_length=64, allow_blank=True, default="")
    to_version = serializers.CharField(max_length=64, allow_blank=True, default="")


class TemplateBody(StrictSerializer):
    """An own command. With the action `named`, `action_name` is the manufacturer's word, `schema` the JSON Schema of
    its parameters, and `models` those that offer it; with a built-in action, `defaults` fills its parameters
    beforehand."""

    name = serializers.CharField(max_length=60)
    note = serializers.CharField(max_length=300, allow_blank=True, default="")
    action = serializers.ChoiceField(choices=[a.value for a in Action])
    action_name = serializers.RegexField(r"^[a-z][a-z0-9_.-]*$", max_length=60, allow_blank=True, default="")
    schema = serializers.DictField(default=dict)
    defaults = serializers.DictField(default=dict)
    harm = serializers.ChoiceField(choices=[h.value for h in Harm], default=Harm.DISRUPTIVE.value)
    minutes = serializers.IntegerField(min_value=1, max_value=1440, default=5)
    models = OfferBody(many=True, default=list)


class ScheduleRow(serializers.Serializer[Any]):
    """A schedule in a list, with its latest firings."""

    id = serializers.IntegerField()
    template = TemplateRow()
    parameters = serializers.DictField()
    name = serializers.CharField()
    reason = serializers.CharField()
    ticket = serializers.CharField()
    sentence = SentencePart(many=True)
    state = serializers.ChoiceField(choices=ScheduleState.choices)
    status = ScheduleStatusView()
    when = serializers.ChoiceField(choices=When.choices)
    clock = serializers.CharField()
    starts_on = serializers.DateField(allow_null=True)
    rule = serializers.CharField()
    excluded = serializers.ListField(child=serializers.CharField())
    spread_minutes = serializers.IntegerField()
    expires_after_minutes = serializers.IntegerField()
    max_concurrent = serializers.IntegerField()
    at_once_per_site = serializers.IntegerField(allow_null=True)
    freezes = serializers.ChoiceField(choices=FreezeChoice.choices)
    late = serializers.ChoiceField(choices=LateChoice.choices)
    overlap = serializers.ChoiceField(choices=OverlapChoice.choices)
    revision = serializers.IntegerField()
    reached_now = serializers.IntegerField()
    quarantined = serializers.CharField()
    include = NamedThing(many=True)
    exclude = NamedThing(many=True)
    include_device_count = serializers.IntegerField()
    time_of_day = serializers.TimeField(allow_null=True)
    created_at = serializers.DateTimeField()
    created_by = serializers.CharField(allow_null=True)
    approved_by = serializers.CharField(allow_null=True)
    next_firing = serializers.DateTimeField(allow_null=True)
    next_zone = serializers.CharField(allow_null=True)
    next_local_time = serializers.CharField()
    phases = serializers.DictField(child=serializers.IntegerField())
    occurrences = OccurrenceRow(many=True)


class ScheduleDetail(ScheduleRow):
    """A schedule by itself, with the names of the devices that it names."""

    include_devices = serializers.ListField(child=serializers.CharField())


class RanOnce(serializers.Serializer[Any]):
    devices = serializers.IntegerField()
