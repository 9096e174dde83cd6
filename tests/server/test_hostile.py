"""Whatever is written to whichever call, nothing answers 500, and every refusal is problem details.

A fixed list of values that broke things before is put into every field of every call that changes something; which
calls and which fields there are is read from the OpenAPI document. Each value is put into all fields at once, and then
by itself into each field that did not refuse it.
"""

import json
from pathlib import Path
from typing import Any

import pytest
from django.db import transaction
from rest_framework.test import APIClient

from herald.fleet.models import PropertyDefinition
from herald.people.models import Role
from herald.time import clock
from tests.factories import NOW, make_devices, make_draft, make_image, make_rule_group, make_static, make_user

pytestmark = pytest.mark.django_db
DOCUMENT = json.loads((Path(__file__).parents[2] / "docs" / "openapi.json").read_text())
DEEP: Any = "x"
for _ in range(200):
    DEEP = [DEEP]
VALUES: list[Any] = [
    None,
    "",
    "\u0000",
    "a\u0000b",
    "\ud800",
    "x" * 70_000,
    "0001-01-01",
    "9999-12-31",
    "0001-01-01T00:00:00Z",
    "9999-12-31T23:59:59-14:00",
    "25:61",
    "²",
    "-1",
    -1,
    0,
    2**31,
    2**63 - 1,
    2**63,
    -(2**63),
    10**400,
    1e308,
    True,
    [],
    {},
    [None],
    [{}],
    ["\u0000"],
    {"\u0000": 1},
    {"a": {"b": DEEP}},
    DEEP,
    "tag = lab " * 3000,
    "(" * 5000,
]


def operations() -> list[tuple[str, str, str]]:
    found = []
    for path, calls in DOCUMENT["paths"].items():
        for method, call in calls.items():
            if method in ("post", "put", "patch", "delete"):
                found.append((call["operationId"], method, path))
    return sorted(found)


def fields_of(path: str, method: str) -> list[str]:
    content = DOCUMENT["paths"][path][method].get("requestBody", {}).get("content", {})
    schema = content.get("application/json", {}).get("schema", {})
    reference = schema.get("$ref", "").rsplit("/", 1)[-1]
    return sorted(DOCUMENT["components"]["schemas"].get(reference, {}).get("properties", {}))


@pytest.fixture
def world() -> dict[str, Any]:
    """Something behind every address, so that calls come past their first question."""
    PropertyDefinition.objects.create(key="depth", source="attribute", label="Depth", type="number")
    devices = make_devices(3, tags=["lab"])
    group = make_static("G", devices)
    make_rule_group("R", "tag = lab")
    draft = make_draft(group)
    image = make_image("5.3.0", b"other")
    site, model = devices[0].site, devices[0].model
    assert site is not None
    return {
        "group_id": group.pk,
        "rollout_id": draft.pk,
        "image_id": image.pk,
        "device": devices[0].uid,
        "slug": "lab",
        "key": "depth",
        "pk": site.pk,
        "id": model.pk,
        "kid": "x",
        "token_id": "x",
        "upload_id": "00000000-0000-0000-0000-000000000000",
    }


@pytest.mark.parametrize(
    "path",
    ["/api/v1/folders/-1", "/api/v1/image-cleanups/null/undo", "/api/v1/x%0Ay", "/api/", "/api/v2/devices", "/nowhere"],
)
@pytest.mark.parametrize("method", ["GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"])
def test_an_address_that_is_no_call_is_a_problem_whoever_asks(path: str, method: str) -> None:
    client = APIClient(enforce_csrf_checks=True)
    answer = client.generic(method, path, "{}", content_type="application/json")
    if path == "/nowhere" and method in ("GET", "OPTIONS"):  # the page, where the browser's own router says so
        assert answer.status_code in (200, 503)
    else:
        assert answer.status_code == (403 if path == "/nowhere" else 404), answer.content
        assert answer["Content-Type"] == "application/problem+json"
        assert answer.json()["status"] == answer.status_code


@pytest.mark.parametrize(("operation", "method", "path"), operations())
def test_no_value_in_any_field_breaks_a_call(world: dict[str, Any], operation: str, method: str, path: str) -> None:
    address = path
    while "{" in address:
        name = address[address.index("{") + 1 : address.index("}")]
        address = address.replace("{" + name + "}", str(world.get(name, 1)))
    for role in (Role.OPERATOR, Role.ADMINISTRATOR, Role.APPROVER):
        client = APIClient(raise_request_exception=False)
        client.force_authenticate(make_user(role))
        with clock.fixed(NOW):
            if client.generic(method.upper(), address, "{}", content_type="application/json").status_code != 403:
                break

    def send(body: str) -> set[str]:
        """Send it and undo what it did; the fields that refused what they got."""
        with clock.fixed(NOW), transaction.atomic():
            answer = client.generic(method.upper(), address, body, content_type="application/json")
            check(answer, (operation, body[:120]))
            transaction.set_rollback(True)
        if answer.status_code != 422:
            return set()
        return {e["pointer"].split("/")[1] for e in answer.json().get("errors", ()) if "/" in e.get("pointer", "")}

    for body in ("", "{", "\x00", "[" * 60_000, "1" * 5000, '{"a":' * 20_000, "[]", "null"):
        send(body)
    fields = fields_of(path, method)
    for value in VALUES if fields else ():
        send(json.dumps(value))
        refused = send(json.dumps(dict.fromkeys(fields, value)))
        for field in fields:
            if field not in refused:
                send(json.dumps({field: value}))


def check(answer: Any, sent: Any) -> None:
    assert answer.status_code < 500, (answer.status_code, sent, answer.content[:300])
    if answer.status_code >= 400:
        assert answer["Content-Type"] == "application/problem+json", sent
        assert answer.json()["status"] == answer.status_code, sent


@pytest.mark.parametrize(
    "query",
    [
        "rule=%00",
        "rule=%ED%A0%80",
        "rule=" + "(" * 5000,
        "cursor=²",
        "limit=-1",
        "limit=" + "9" * 400,
        "x=" + "y" * 70_000,
    ],
)
def test_no_query_breaks_a_list(world: dict[str, Any], query: str) -> None:
    client = APIClient(raise_request_exception=False)
    client.force_authenticate(make_user())
    with clock.fixed(NOW):
        for path in ("devices", "record", f"rollouts/{world['rollout_id']}/deliveries", "fields/tag/values", "images"):
            answer = client.get(f"/api/v1/{path}?{query}")
            check(answer, (path, query[:60]))


def test_a_body_without_credentials_is_bounded_too() -> None:
    client = APIClient(raise_request_exception=False, enforce_csrf_checks=True)
    for body in ("[" * 60_000, '{"email": "\\ud800"}', "\x00"):
        check(client.post("/api/v1/session", body, content_type="application/json"), body[:40])


def test_what_browsers_may_load_is_said_with_every_answer() -> None:
    client = APIClient()
    for path in ("/api/v1/health", "/", "/api/v1/nothing"):
        answer = client.get(path)
        assert "script-src 'self';" in answer["Content-Security-Policy"]
        assert "frame-ancestors 'none'" in answer["Content-Security-Policy"]
        assert answer["X-Frame-Options"] == "DENY"
