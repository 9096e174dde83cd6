"""What the API takes and shows of the life of devices: added, admitted, given secrets, replaced, removed."""

from typing import Any

from rest_framework import serializers

from herald.fleet.models import DEFAULT_INTERVAL_SECONDS, Admission, EnrolmentAttempt, RefusalCause
from herald.http.fields import NamedThing, StrictSerializer
from herald_core.properties import MAX_INTERVAL, MIN_INTERVAL


class DeviceDraftBody(StrictSerializer):
    """A device to add. It needs its `uid`, or the `serial` by which it will make itself known. `own_time_zone` empty is
    its site's; `interval` is in seconds between check-ins."""

    model = serializers.CharField(max_length=60)
    uid = serializers.CharField(max_length=80, allow_blank=True, default="")
    serial = serializers.CharField(max_length=80, allow_blank=True, default="")
    name = serializers.CharField(max_length=80, allow_blank=True, default="")
    hardware_revision = serializers.CharField(max_length=20, allow_blank=True, default="")
    site = serializers.CharField(max_length=80, allow_blank=True, default="")
    custodian = serializers.CharField(max_length=80, allow_blank=True, default="")
    tags = serializers.ListField(child=serializers.CharField(max_length=60), default=list, max_length=100)
    attributes = serializers.DictField(default=dict)
    admission = serializers.ChoiceField(
        choices=[(a.value, a.label) for a in (Admission.ADMITTED, Admission.WAITING)], default=Admission.ADMITTED.value
    )
    own_time_zone = serializers.CharField(max_length=64, allow_blank=True, default="")
    interval = serializers.IntegerField(
        min_value=MIN_INTERVAL, max_value=MAX_INTERVAL, default=DEFAULT_INTERVAL_SECONDS
    )


class DeviceName(serializers.Serializer[Any]):
    """A device by its id and name."""

    id = serializers.IntegerField()
    name = serializers.CharField()
    uid = serializers.CharField()


class Asked(serializers.Serializer[Any]):
    """How many devices were asked; those that do not call were passed over."""

    asked = serializers.IntegerField()


class IssuedSecret(serializers.Serializer[Any]):
    """A device's new secret, which is shown this once."""

    secret = serializers.CharField()


class RemovalView(serializers.Serializer[Any]):
    """What goes with a device: its orders, the rollouts and commands whose counts are without it then, and its
    groups."""

    orders = serializers.IntegerField()
    rollouts = serializers.IntegerField()
    commands = serializers.IntegerField()
    groups = serializers.IntegerField()


class RemovalBody(StrictSerializer):
    """`name` is the device's name, typed to confirm."""

    name = serializers.CharField(max_length=80, trim_whitespace=False)


class ReplacementBody(StrictSerializer):
    """`by` is the device that takes the place: its name or uid, or `id:` and its id."""

    by = serializers.CharField(max_length=90)


class ReplacementView(serializers.Serializer[Any]):
    """What a replacement does: the name of the old device then, the static groups in which the new one takes its place,
    how many rollouts and commands that are not over name the new one instead, how many orders of the old one are
    withdrawn, and how many it still finishes."""

    old_name = serializers.CharField()
    groups = NamedThing(many=True)
    named_in = serializers.IntegerField()
    withdrawn = serializers.IntegerField()
    finishing = serializers.IntegerField()


class WaitingDevice(serializers.Serializer[Any]):
    """A device that waits for admission. `asked_at` is when it first enrolled."""

    id = serializers.IntegerField()
    name = serializers.CharField()
    uid = serializers.CharField()
    serial = serializers.CharField()
    model = serializers.CharField(source="model.name")
    site = serializers.CharField(source="site.name", default=None, allow_null=True)
    tags = serializers.ListField(child=serializers.CharField())
    asked_at = serializers.DateTimeField(source="first_seen", allow_null=True)
    last_check_in = serializers.DateTimeField(allow_null=True)


class AttemptRow(serializers.ModelSerializer[EnrolmentAttempt]):
    """A device that was refused. `device` is the one with this uid, where there is one."""

    cause = serializers.ChoiceField(choices=RefusalCause.choices)
    device = serializers.CharField(allow_null=True, help_text="the name of the device with this uid")

    class Meta:
        model = EnrolmentAttempt
        fields = (
            "id",
            "uid",
            "serial",
            "model",
            "hardware_revision",
            "address",
            "cause",
            "tries",
            "first_at",
            "last_at",
            "device",
        )


class AdmissionQueue(serializers.Serializer[Any]):
    """Who waits for admission (`waiting_count` in all, the first of them listed), and who was refused as it enrolled,
    the latest first."""

    waiting_count = serializers.IntegerField()
    waiting = WaitingDevice(many=True)
    attempts = AttemptRow(many=True)


class LetInBody(StrictSerializer):
    """The uid of a device that was removed for good."""

    uid = serializers.CharField(max_length=80)
