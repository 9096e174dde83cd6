"""Devices as the API shows them."""

from datetime import timedelta
from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

from herald.fleet.models import Device
from herald.fleet.presence import presence_of
from herald.time import clock


class DeviceRow(serializers.ModelSerializer[Device]):
    """A device in a list."""

    model = serializers.CharField(source="model.name")
    site = serializers.CharField(source="site.name", default=None, allow_null=True)
    custodian = serializers.CharField(source="custodian.name", default=None, allow_null=True)
    presence = serializers.SerializerMethodField()
    #: further fields that were asked for, by key
    extra = serializers.DictField(default=dict)

    class Meta:
        model = Device
        fields = (
            "id",
            "uid",
            "name",
            "model",
            "hardware_revision",
            "firmware",
            "site",
            "time_zone",
            "custodian",
            "tags",
            "presence",
            "last_check_in",
            "admission",
            "extra",
        )

    def get_presence(self, device: Device) -> str:
        return presence_of(device.last_check_in, device.check_in_interval_seconds, clock.now())


class DevicePage(serializers.Serializer[Any]):
    """A page of devices. `next` goes into `cursor` for the following one."""

    count = serializers.IntegerField()
    devices = DeviceRow(many=True)
    next = serializers.CharField(allow_null=True)


class GroupOfDevice(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    name = serializers.CharField()
    since = serializers.DateTimeField()
    cause = serializers.CharField()
    rule = serializers.CharField()


class DeviceDetail(DeviceRow):
    """One device with everything known of it."""

    family = serializers.CharField(source="model.family")
    site_id = serializers.IntegerField(allow_null=True)
    groups = serializers.SerializerMethodField()
    has_secret = serializers.SerializerMethodField()
    next_check_in = serializers.SerializerMethodField()

    class Meta(DeviceRow.Meta):
        fields = (
            *DeviceRow.Meta.fields,
            "family",
            "site_id",
            "serial",
            "attributes",
            "facts",
            "facts_since",
            "report_asked_at",
            "live_asked_at",
            "live_until",
            "healthy",
            "fault",
            "first_seen",
            "check_in_interval_seconds",
            "own_time_zone",
            "has_secret",
            "next_check_in",
            "groups",
        )

    @extend_schema_field(GroupOfDevice(many=True))
    def get_groups(self, device: Device) -> list[dict[str, Any]]:
        memberships = device.memberships.select_related("group").order_by("group__name")
        return [
            {"id": m.group_id, "name": m.group.name, "since": m.since, "cause": m.cause, "rule": m.group.rule}
            for m in memberships
        ]

    def get_has_secret(self, device: Device) -> bool:
        return device.secret_hash is not None

    @extend_schema_field(serializers.DateTimeField(allow_null=True))
    def get_next_check_in(self, device: Device) -> str | None:
        if device.last_check_in is None:
            return None
        return (device.last_check_in + timedelta(seconds=device.check_in_interval_seconds)).isoformat()


class FieldInfo(serializers.Serializer[Any]):
    """A field that rules may name."""

    key = serializers.CharField()
    label = serializers.CharField()
    type = serializers.CharField()
    source = serializers.CharField()
    unit = serializers.CharField()
    operators = serializers.ListField(child=serializers.CharField())


class ValueCount(serializers.Serializer[Any]):
    value = serializers.CharField()
    count = serializers.IntegerField()
