"""The OpenAPI document says what is true: every field of an answer is there, and what a call does to groups."""

from typing import Any

from herald.api.agreement import AGREED, DRY_RUN
from herald.api.membership import GATED, mark_of

_WRITES = ("post", "put", "patch", "delete")
_HEADERS = (
    {
        "name": AGREED,
        "in": "header",
        "schema": {"type": "string"},
        "description": "The `digest` of the consequences that were shown: without it a change that reaches something "
        "running is 409 `consequences-not-agreed`.",
    },
    {
        "name": DRY_RUN,
        "in": "header",
        "schema": {"type": "boolean"},
        "description": "Answer with the consequences only, and change nothing.",
    },
)


def answers_are_whole(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """Mark all properties of answers as required; a default only makes a field optional in requests."""
    for name, schema in result.get("components", {}).get("schemas", {}).items():
        if "properties" in schema and not name.endswith("Request"):
            schema["required"] = sorted(schema["properties"])
    return result


def membership_is_marked(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """Say of each call that writes whether it can change who is in which group, and how to agree to that."""
    for calls in result["paths"].values():
        for method, call in calls.items():
            if method in _WRITES and (mark := mark_of(call["operationId"])):
                call["x-membership"] = mark
                if mark == GATED:
                    call.setdefault("parameters", []).extend(_HEADERS)
    return result
