"""What the calendar's answers hold. They document it; the answers are written without them, for they are large."""

from typing import Any

from rest_framework import serializers

from herald.http.fields import TimeSpan
from herald.rollouts.models import RolloutState
from herald_core.actions import Harm


class DevicesInRow(serializers.Serializer[Any]):
    """How many devices, in a row."""

    row = serializers.CharField()
    devices = serializers.IntegerField()


class CalendarRow(serializers.Serializer[Any]):
    """A row: its devices, the clock of most of them, and how many clocks they have."""

    key = serializers.CharField()
    name = serializers.CharField()
    zone = serializers.CharField()
    zones = serializers.IntegerField()
    devices = serializers.IntegerField()


class CalendarWindows(serializers.Serializer[Any]):
    """The hours ahead in which a rollout may install in a row."""

    row = serializers.CharField()
    spans = TimeSpan(many=True)


class CalendarRing(serializers.Serializer[Any]):
    """When a ring opens or opened, and when it is or was through: the earliest, median and latest of four futures of
    five, empty where that is not known. `left` counts the devices that are not through."""

    position = serializers.IntegerField()
    name = serializers.CharField()
    soak_minutes = serializers.IntegerField()
    needs_approval = serializers.BooleanField()
    is_open = serializers.BooleanField()
    is_through = serializers.BooleanField()
    opens_at = serializers.DateTimeField(allow_null=True)
    opens_high = serializers.DateTimeField(allow_null=True)
    through_low = serializers.DateTimeField(allow_null=True)
    through_at = serializers.DateTimeField(allow_null=True)
    through_high = serializers.DateTimeField(allow_null=True)
    devices = DevicesInRow(many=True)
    left = DevicesInRow(many=True)


class CalendarRollout(serializers.Serializer[Any]):
    """A rollout that is open, or ended in this time. `forecast_at` says of when its forecast is."""

    id = serializers.IntegerField()
    name = serializers.CharField()
    target = serializers.CharField()
    audience = serializers.CharField()
    state = serializers.ChoiceField(choices=RolloutState.choices)
    window_start = serializers.TimeField(allow_null=True)
    window_end = serializers.TimeField(allow_null=True)
    left = serializers.IntegerField()
    forecast_at = serializers.DateTimeField(allow_null=True)
    windows = CalendarWindows(many=True)
    rings = CalendarRing(many=True)


class CalendarMark(serializers.Serializer[Any]):
    """A firing in a row, as long as its spread. One that was has an `occurrence`, and the phases of its devices."""

    at = serializers.DateTimeField()
    ends_at = serializers.DateTimeField()
    devices = serializers.IntegerField()
    occurrence = serializers.IntegerField(allow_null=True)
    phases = serializers.DictField(child=serializers.IntegerField())


class CalendarFirings(serializers.Serializer[Any]):
    """The firings of a schedule in a row. Where there are more than a picture holds, `marks` is empty, and `times` says
    how many there are from `first` to `last`."""

    row = serializers.CharField()
    times = serializers.IntegerField()
    first = serializers.DateTimeField()
    last = serializers.DateTimeField()
    devices = serializers.IntegerField()
    marks = CalendarMark(many=True)


class CalendarSchedule(serializers.Serializer[Any]):
    """A scheduled command; `past` are its firings up to now, `planned` those that will be."""

    id = serializers.IntegerField()
    name = serializers.CharField()
    command = serializers.CharField()
    harm = serializers.ChoiceField(choices=[h.value for h in Harm])
    sentence = serializers.CharField()
    clock = serializers.CharField()
    time_of_day = serializers.TimeField(allow_null=True)
    revision = serializers.IntegerField()
    past = CalendarFirings(many=True)
    planned = CalendarFirings(many=True)


class CalendarFreeze(serializers.Serializer[Any]):
    """One time of a freeze; `source` names the calendar that it was read from, empty for none."""

    id = serializers.IntegerField()
    name = serializers.CharField()
    why = serializers.CharField()
    starts_at = serializers.DateTimeField()
    ends_at = serializers.DateTimeField()
    repeats_yearly = serializers.BooleanField()
    everywhere = serializers.BooleanField()
    source = serializers.CharField()
    devices = DevicesInRow(many=True)


class CalendarBar(serializers.Serializer[Any]):
    """Devices that are expected to be out of service at some moment from `at` on, for the length of a bar."""

    at = serializers.DateTimeField()
    installs = serializers.FloatField()
    commands = serializers.FloatField()


class CalendarSite(serializers.Serializer[Any]):
    """A site with files to fetch: how many its uplink carries at once, how many are under way, how many wait."""

    id = serializers.IntegerField()
    name = serializers.CharField()
    at_once = serializers.IntegerField()
    under_way = serializers.IntegerField()
    waiting = serializers.IntegerField()
    load = serializers.ListField(child=serializers.FloatField())


class CalendarAnswer(serializers.Serializer[Any]):
    """All that happens in [from, until), in rows of time zones, sites or groups. The devices in it were counted at
    `counted_at`; just now, where that is null."""

    now = serializers.DateTimeField()
    counted_at = serializers.DateTimeField(allow_null=True)
    begins_at = serializers.DateTimeField()
    ends_at = serializers.DateTimeField()
    rows = CalendarRow(many=True)
    rollouts = CalendarRollout(many=True)
    schedules = CalendarSchedule(many=True)
    freezes = CalendarFreeze(many=True)
    bar_hours = serializers.IntegerField()
    load = CalendarBar(many=True)
    sites = CalendarSite(many=True)
