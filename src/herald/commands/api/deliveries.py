"""Deliveries of commands, with what came of them."""

from typing import Any

from rest_framework import serializers

from herald.deliveries.api.serializers import DeliveryRow
from herald.deliveries.models import Delivery
from herald_core.answers import answer_text


class CommandDeliveryRow(DeliveryRow):
    """A delivery of a command. `answer` is what its device answered, as text; `has_output` whether it gave more. The
    context holds the ids of those that sent theirs in pieces, in `outputs`."""

    answer = serializers.CharField()
    has_output = serializers.BooleanField()

    class Meta(DeliveryRow.Meta):
        fields = (*DeliveryRow.Meta.fields, "answer", "has_output")

    def to_representation(self, delivery: Delivery) -> dict[str, Any]:
        results = delivery.results if isinstance(delivery.results, dict) else {}
        delivery.answer = "" if results.get("answer") is None else answer_text(results["answer"])  # type: ignore[attr-defined]
        delivery.has_output = bool(results.get("output")) or delivery.pk in self.context["outputs"]  # type: ignore[attr-defined]
        return super().to_representation(delivery)


class CommandDeliveryPage(serializers.Serializer[Any]):
    """A page of deliveries. `next` goes into `cursor` for the following one."""

    count = serializers.IntegerField()
    deliveries = CommandDeliveryRow(many=True)
    next = serializers.IntegerField(allow_null=True)
