"""Deliveries as the API shows them."""

from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

from herald.deliveries.models import PHASES, Delivery
from herald.deliveries.waiting import WaitingFor
from herald_core.waiting import WaitReason


class WaitsFor(serializers.Serializer[Any]):
    """What a delivery waits for, as a code and in words that follow “waits for”; `until` is when that ends, if it is
    known."""

    code = serializers.ChoiceField(choices=[(r.value, r.value) for r in WaitReason])
    reason = serializers.CharField()
    until = serializers.DateTimeField(allow_null=True)


class DeliveryRow(serializers.ModelSerializer[Delivery]):
    """A delivery in a table. The context holds what each waits for, in `waits` (`deliveries.waiting.waits_of`)."""

    device_id = serializers.IntegerField()
    device = serializers.CharField(source="device.name")
    model = serializers.CharField(source="device.model.name")
    site = serializers.CharField(source="device.site.name", default=None, allow_null=True)
    firmware = serializers.CharField(source="device.firmware", allow_null=True)
    ring = serializers.IntegerField(source="ring.position", default=None, allow_null=True)
    what = serializers.SerializerMethodField()
    waits_for = serializers.SerializerMethodField()
    rollout = serializers.IntegerField(source="seen_rollout_id", allow_null=True)
    schedule = serializers.IntegerField(source="occurrence.schedule_id", default=None, allow_null=True)

    class Meta:
        model = Delivery
        fields = (
            "id",
            "device_id",
            "device",
            "model",
            "site",
            "firmware",
            "kind",
            "what",
            "rollout",
            "schedule",
            "ring",
            "phase",
            "phase_since",
            "waits_for",
            "attempt",
            "max_attempts",
            "progress",
            "from_version",
            "last_error",
            "last_error_text",
            "not_before",
            "not_after",
            "results",
            "hold_reason",
            "notice_shown_at",
            "times_deferred",
            "deferred_at",
        )

    def get_what(self, delivery: Delivery) -> str:
        return describe(delivery)

    @extend_schema_field(WaitsFor(allow_null=True))
    def get_waits_for(self, delivery: Delivery) -> dict[str, Any] | None:
        waiting: WaitingFor | None = self.context["waits"].get(delivery.pk)
        return {"code": waiting.code, "reason": waiting.reason, "until": waiting.until} if waiting else None

    def to_representation(self, delivery: Delivery) -> dict[str, Any]:
        """The row, written out: a watch page asks for a hundred again and again, and going from field to field takes
        most of the time of its call."""
        device = delivery.device
        named = {
            "device": device.name,
            "model": device.model.name,
            "site": device.site.name if device.site else None,
            "firmware": device.firmware,
            "ring": delivery.ring.position if delivery.ring else None,
            "what": describe(delivery),
            "waits_for": self.get_waits_for(delivery),
            "rollout": delivery.seen_rollout_id,
            "schedule": delivery.occurrence.schedule_id if delivery.occurrence else None,
        }
        return {name: named[name] if name in named else getattr(delivery, name) for name in self.Meta.fields}


#: what stands for the command of a schedule that whoever asks does not see
UNSEEN_COMMAND = "A command that you do not see"


def describe(delivery: Delivery) -> str:
    """What is delivered, in words."""
    if delivery.image:
        return str(delivery.image)
    return delivery.occurrence.template.name if delivery.occurrence else UNSEEN_COMMAND


class DeliveryPage(serializers.Serializer[Any]):
    """A page of deliveries. `next` goes into `cursor` for the following one."""

    count = serializers.IntegerField()
    deliveries = DeliveryRow(many=True)
    next = serializers.IntegerField(allow_null=True)


class TimelineEntry(serializers.Serializer[Any]):
    """Something that happened. `to_phase` is empty for what is no delivery's change."""

    at = serializers.DateTimeField()
    text = serializers.CharField()
    detail = serializers.CharField()
    to_phase = serializers.ChoiceField(choices=PHASES, allow_blank=True)
    device = serializers.CharField()
    rollout = serializers.IntegerField(allow_null=True)
    schedule = serializers.IntegerField(allow_null=True)


class ConflictRow(serializers.Serializer[Any]):
    """Something that wants so many of the same devices, and what will happen."""

    kind = serializers.ChoiceField(choices=["rollout", "freeze", "schedule"])
    id = serializers.IntegerField()
    name = serializers.CharField()
    devices = serializers.IntegerField()
    what = serializers.CharField()
