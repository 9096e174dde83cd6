"""Fields of requests that several rooms above take."""

from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

from herald.groups.models import Group


@extend_schema_field(
    {"oneOf": [{"type": "integer"}, {"type": "string", "maxLength": 80}], "description": "a group, by id or name"}
)
class GroupNameOrId(serializers.Field[Group, Any, Any, Any]):
    """A group by its id, or by its name."""

    default_error_messages = {
        "neither": "A group is given by its id or its name.",
        "unknown": "There is no group {said}.",
    }

    def to_internal_value(self, data: Any) -> Group:
        if isinstance(data, bool) or not isinstance(data, int | str) or data == "":
            self.fail("neither")
        if isinstance(data, int):
            found = Group.objects.filter(pk=data).first() if 0 < data < 2**63 else None
        else:
            found = Group.objects.filter(name=data).first() if "\x00" not in data else None
        if found is None:
            self.fail("unknown", said=str(data)[:80])
        return found

    def to_representation(self, value: Group) -> int:
        return int(value.pk)
