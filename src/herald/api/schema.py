"""The OpenAPI document says of answers what is true: every field of one is there."""

from typing import Any


def answers_are_whole(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """Mark all properties of answers as required; a default only makes a field optional in requests."""
    for name, schema in result.get("components", {}).get("schemas", {}).items():
        if "properties" in schema and not name.endswith("Request"):
            schema["required"] = sorted(schema["properties"])
    return result
