"""The device protocol as OpenAPI 3.1, made from the messages themselves."""

from typing import Any

import msgspec

from herald.gateway.enrolment import Enrolment
from herald.gateway.messages import MAX_BODY_BYTES, Answer, CheckIn

_PROBLEM = {
    "description": "Problem details (RFC 9457)",
    "content": {"application/problem+json": {"schema": {"type": "object"}}},
}
_SCHEMAS, _COMPONENTS = msgspec.json.schema_components(
    (CheckIn, Answer, Enrolment), ref_template="#/components/schemas/{name}"
)


def _json(schema: dict[str, Any]) -> dict[str, Any]:
    return {"content": {"application/json": {"schema": schema}}}


def _call(summary: str, ok: dict[str, Any], *refusals: int, body: dict[str, Any] | None = None) -> dict[str, Any]:
    call: dict[str, Any] = {"summary": summary, "responses": {"200": {"description": "Done", **ok}}}
    call["responses"] |= {str(status): _PROBLEM for status in refusals}
    if body is not None:
        call["requestBody"] = {"required": True, **_json(body)}
    return call


DOCUMENT: dict[str, Any] = {
    "openapi": "3.1.0",
    "info": {
        "title": "Brisk Herald, device protocol",
        "version": "1",
        "description": f"Devices poll. A body has at most {MAX_BODY_BYTES} bytes.",
    },
    "security": [{"secret": []}],
    "paths": {
        "/device/v1/enrol": {
            "post": {
                **_call("A device's first call", _json({"type": "object"}), 401, 409, 413, 422, 503, body=_SCHEMAS[2]),
                "security": [],
            }
        },
        "/device/v1/check-in": {
            "post": _call(
                "Report state and progress, get an order",
                _json(_SCHEMAS[1]),
                401,
                410,
                413,
                422,
                429,
                503,
                body=_SCHEMAS[0],
            )
        },
        "/device/v1/images/{sha256}": {
            "get": {
                **_call("An image's file; Range is understood", {}, 401, 404, 410, 416, 503),
                "parameters": [{"name": "sha256", "in": "path", "required": True, "schema": {"type": "string"}}],
            }
        },
        "/device/v1/orders/{order}/output": {
            "patch": {
                **_call(
                    "A piece of what a command gave, beginning at Upload-Offset; the answer says where the next begins",
                    _json({"type": "object"}),
                    401,
                    404,
                    409,
                    413,
                    422,
                    503,
                ),
                "requestBody": {
                    "required": True,
                    "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
                },
                "parameters": [
                    {"name": "order", "in": "path", "required": True, "schema": {"type": "string"}},
                    {"name": "Upload-Offset", "in": "header", "required": True, "schema": {"type": "integer"}},
                ],
            }
        },
        "/device/v1/keys": {
            "get": {**_call("Keys that sign images (JWK Set)", _json({"type": "object"}), 503), "security": []}
        },
    },
    "components": {
        "schemas": _COMPONENTS,
        "securitySchemes": {"secret": {"type": "http", "scheme": "bearer"}},
    },
}
