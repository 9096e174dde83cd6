"""Scheduled commands as the API shows and takes them."""

from typing import Any

from rest_framework import serializers

from herald.commands.models import CommandTemplate, FreezeChoice, Harm, ScheduleState, When
from herald.deliveries.api.serializers import ConflictRow
from herald.groups.api.serializers import NAMED_DEVICES
from herald.groups.models import Group
from herald.http.fields import NamedThing, SentencePart, StrictSerializer
from herald_core.schedules import ScheduleStatus


class ScheduleDraftBody(StrictSerializer):
    """A command. `time_of_day` is by each device's own clock."""

    template = serializers.ChoiceField(choices=CommandTemplate.choices, default=CommandTemplate.RESTART.value)
    include = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), many=True)
    exclude = serializers.PrimaryKeyRelatedField(queryset=Group.objects.all(), many=True, default=list)
    include_devices = NAMED_DEVICES
    when = serializers.ChoiceField(choices=When.choices)
    time_of_day = serializers.TimeField(allow_null=True, default=None)
    starts_on = serializers.DateField(allow_null=True, default=None)
    until = serializers.DateField(allow_null=True, default=None)
    spread_minutes = serializers.IntegerField(min_value=0, max_value=1379, default=20)
    expires_after_minutes = serializers.IntegerField(min_value=1, max_value=1380, default=120)
    max_concurrent = serializers.IntegerField(min_value=1, max_value=1_000_000, default=500)
    freezes = serializers.ChoiceField(choices=FreezeChoice.choices, default=FreezeChoice.WAIT.value)


class NewScheduleBody(ScheduleDraftBody):
    """`devices` is the number of devices that the preview gave: asked for where a disruptive command runs now."""

    devices = serializers.IntegerField(min_value=0, default=0)


class RunBody(StrictSerializer):
    """`devices` is the number of devices that it was shown to run on."""

    devices = serializers.IntegerField(min_value=0, default=0)


class FiringView(serializers.Serializer[Any]):
    """`shift` says what a clock change does to it: skipped (it runs at the first moment after), or
    twice (it runs the first time only)."""

    at = serializers.DateTimeField()
    shift = serializers.CharField(allow_blank=True)


class ZoneFiringsView(serializers.Serializer[Any]):
    zone = serializers.CharField()
    devices = serializers.IntegerField()
    firings = FiringView(many=True)


class SchedulePreview(serializers.Serializer[Any]):
    """The next firings per zone, and how many devices it would be for now.

    The firmware of `unsupported_count` devices of its groups cannot do it; `unable_rule` finds them. A freeze holds
    `frozen` of the others now; it would run on `reached_now` of them now.
    """

    devices = serializers.IntegerField()
    unsupported_count = serializers.IntegerField()
    unable_rule = serializers.CharField()
    harm = serializers.ChoiceField(choices=Harm.choices)
    frozen = serializers.IntegerField()
    reached_now = serializers.IntegerField()
    conflicts = ConflictRow(many=True)
    zones = ZoneFiringsView(many=True)


class OccurrenceRow(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    zone = serializers.CharField()
    fires_at = serializers.DateTimeField()
    expires_at = serializers.DateTimeField()
    audience = serializers.IntegerField()
    unsupported_count = serializers.IntegerField()
    frozen = serializers.IntegerField()
    phases = serializers.DictField(child=serializers.IntegerField())


class ScheduleStatusView(serializers.Serializer[Any]):
    """Where a scheduled command stands: `words` say it; `devices` are those they speak of."""

    code = serializers.ChoiceField(choices=list(ScheduleStatus))
    words = serializers.CharField()
    devices = serializers.IntegerField()


class ScheduleRow(serializers.Serializer[Any]):
    """A schedule in a list, with its latest firings."""

    id = serializers.IntegerField()
    template = serializers.CharField()
    sentence = SentencePart(many=True)
    state = serializers.ChoiceField(choices=ScheduleState.choices)
    status = ScheduleStatusView()
    when = serializers.ChoiceField(choices=When.choices)
    harm = serializers.ChoiceField(choices=Harm.choices)
    freezes = serializers.ChoiceField(choices=FreezeChoice.choices)
    reached_now = serializers.IntegerField()
    quarantined = serializers.CharField()
    include = NamedThing(many=True)
    exclude = NamedThing(many=True)
    include_device_count = serializers.IntegerField()
    time_of_day = serializers.TimeField(allow_null=True)
    created_at = serializers.DateTimeField()
    created_by = serializers.CharField(allow_null=True)
    next_firing = serializers.DateTimeField(allow_null=True)
    next_zone = serializers.CharField(allow_null=True)
    phases = serializers.DictField(child=serializers.IntegerField())
    occurrences = OccurrenceRow(many=True)


class RanOnce(serializers.Serializer[Any]):
    devices = serializers.IntegerField()
