"""The OpenAPI document says what is true: every field of an answer is there, and what a call does to groups."""

from collections.abc import Iterator
from typing import Any

from herald.http.agreement import AGREED, CONSEQUENCES, DRY_RUN
from herald.http.membership import GATED, mark_of

#: hours and minutes, seconds and their parts if anybody wants them
CLOCK_TIME = r"^([01]\d|2[0-3]):[0-5]\d(:[0-5]\d(\.\d{1,6})?)?$"
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
        "description": "Answer 200 with the consequences only (`groups`, `uses`, `digest`), and change nothing.",
    },
)


_COUNTED = {"joins": {"type": "integer"}, "leaves": {"type": "integer"}, "id": {"type": "integer"}}
_CONSEQUENCES = {
    "type": "object",
    "description": "What a change would set off: how many devices join and leave which groups, and what runs follows.",
    "properties": {
        "groups": {
            "type": "array",
            "items": {
                "type": "object",
                "properties": {"name": {"type": "string"}, **_COUNTED},
                "required": ["id", "name", "joins", "leaves"],
            },
        },
        "uses": {
            "type": "array",
            "items": {
                "type": "object",
                "properties": {"kind": {"type": "string"}, "sentence": {"type": "string"}, **_COUNTED},
                "required": ["kind", "id", "sentence", "joins", "leaves"],
            },
        },
        "digest": {"type": "string", "description": "to be sent as `Herald-Agreed`"},
    },
    "required": ["groups", "uses", "digest"],
}


def answers_are_whole(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """Mark all properties of answers as required; a default only makes a field optional in requests."""
    for name, schema in result.get("components", {}).get("schemas", {}).items():
        if "properties" in schema and not name.endswith("Request"):
            schema["required"] = sorted(schema["properties"])
    return result


def clock_times_are_as_said(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """A time on devices' clocks has no zone, so it is not what the format `time` means."""
    for schema in _within(result):
        if schema.get("format") == "time":
            del schema["format"]
            schema |= {"pattern": CLOCK_TIME, "examples": ["05:30:00"]}
    return result


def _within(part: Any) -> Iterator[dict[str, Any]]:
    if isinstance(part, dict):
        yield part
    for inner in part.values() if isinstance(part, dict) else part if isinstance(part, list) else ():
        yield from _within(inner)


def membership_is_marked(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """Say of each call that writes whether it can change who is in which group, and how to agree to that."""
    for calls in result["paths"].values():
        for method, call in calls.items():
            if method in _WRITES and (mark := mark_of(call["operationId"])):
                call["x-membership"] = mark
                if mark == GATED:
                    call.setdefault("parameters", []).extend(_HEADERS)
                    dry = call["responses"].setdefault("200", {"description": "The consequences, after a dry run."})
                    dry.setdefault("content", {})[CONSEQUENCES] = {
                        "schema": {"$ref": "#/components/schemas/Consequences"}
                    }
                    result["components"]["schemas"]["Consequences"] = _CONSEQUENCES
    return result


_OPEN = ("health", "ready")
_PROBLEM = {
    "type": "object",
    "description": "What went wrong (RFC 9457). `errors` names the places, where there are any.",
    "properties": {
        "type": {"type": "string", "description": "urn:brisk-herald:problem: and the code"},
        "title": {"type": "string"},
        "status": {"type": "integer"},
        "detail": {"type": "string", "description": "what, where, and the remedy"},
        "errors": {
            "type": "array",
            "items": {
                "type": "object",
                "properties": {
                    "pointer": {"type": "string", "description": "where in the request (RFC 6901)"},
                    "code": {"type": "string"},
                    "message": {"type": "string"},
                },
                "additionalProperties": True,
            },
        },
    },
    "required": ["type", "title", "status"],
    "additionalProperties": True,
    "example": {
        "type": "urn:brisk-herald:problem:invalid",
        "title": "Something in the request does not fit",
        "status": 422,
        "detail": "A device has a name of 1 to 80 characters.",
        "errors": [{"pointer": "/name", "code": "invalid", "message": "A device has a name of 1 to 80 characters."}],
    },
}
_WORDS = {
    "400": "The request is no HTTP or JSON that can be read.",
    "401": "Nobody is signed in, and no valid token is given.",
    "403": "The role does not allow it, or the session’s CSRF token is missing.",
    "404": "What the address names does not exist.",
    "405": "The method is not one of those that the address takes.",
    "406": "The answer comes in no kind that is asked for.",
    "409": "The current state does not allow it, or its consequences were not agreed to.",
    "413": "The body is too large.",
    "414": "The address is too long.",
    "415": "The body is of a kind that is not taken.",
    "422": "Something in the request does not fit; `errors` says where.",
    "429": "Too many requests; `Retry-After` says when to try again.",
    "500": "The system failed at it, which is on record in its log.",
    "503": "The database or a part of the system is away; `Retry-After` says when to try again.",
}


def errors_are_said(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """Say of each call with which problems it may answer."""
    result.setdefault("components", {}).setdefault("schemas", {})["Problem"] = _PROBLEM
    for path, calls in result["paths"].items():
        for method, call in calls.items():
            for status in _statuses(path, method, call):
                if status not in call["responses"]:
                    call["responses"][status] = {
                        "description": _WORDS[status],
                        "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
                    }
            if method == "get" and call["operationId"] not in _OPEN:
                said = "The answer is still the one whose `ETag` the request shows in `If-None-Match`; to tokens only."
                call["responses"]["304"] = {"description": said}
            call["responses"] = dict(sorted(call["responses"].items()))
    return result


def _statuses(path: str, method: str, call: dict[str, Any]) -> list[str]:
    statuses = ["414", "422", "429", "500", "503"]
    if call["operationId"] not in _OPEN:
        statuses += ["401", "403"]
    if "{" in path:
        statuses += ["404", "409"]
    if method in _WRITES:
        statuses += ["400", "403", "404", "409", "413", "415"]
    return statuses


def types_are_named_once(result: Any, **_: Any) -> Any:
    """Name each type of a value once: a field that may be null anyway is not null twice (JSON Schema 2020-12)."""
    if isinstance(result, dict):
        if isinstance(result.get("type"), list):
            result["type"] = list(dict.fromkeys(result["type"]))
        for value in result.values():
            types_are_named_once(value)
    elif isinstance(result, list):
        for value in result:
            types_are_named_once(value)
    return result
