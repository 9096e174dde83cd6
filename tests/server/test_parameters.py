"""Query parameters: a call takes those that the OpenAPI document names, and no others."""

import json
import re
from pathlib import Path
from typing import Any

import pytest
from django.urls import get_resolver
from jsonschema import Draft202012Validator
from rest_framework.test import APIClient

from herald.http.parameters import declared_by
from herald.http.schema import CLOCK_TIME
from tests.factories import make_device, make_static

pytestmark = pytest.mark.django_db
ROOT = Path(__file__).parents[2]


def test_a_word_that_is_misspelt_is_refused_and_not_passed_over(client: APIClient) -> None:
    make_device()
    refused = client.get("/api/v1/devices", {"rul": "family = None"})
    assert refused.status_code == 422 and refused["Content-Type"] == "application/problem+json"
    body = refused.json()
    assert "Did you mean rule?" in body["detail"] and body["errors"][0]["pointer"] == "/rul"
    assert client.get("/api/v1/now", {"x": "1"}).status_code == 422
    assert client.post("/api/v1/rules/preview?limit=5", {"rule": "everything"}, format="json").status_code == 422


@pytest.mark.parametrize(
    ("path", "query"),
    [
        ("devices", {"limit": "many"}),
        ("devices", {"limit": "²"}),
        ("devices", {"limit": "-1"}),
        ("devices/export", {"format": "pdf"}),
        ("rollouts/1/forecast", {"failure_pct": "nan"}),
        ("rollouts/1/breakdown", {"by": "colour"}),
        ("record", {"before": "9" * 40}),
        ("groups/{group}/membership-diff", {"first": "2026-11-28T10:00:00"}),
        ("groups/{group}/membership-diff", {"first": "9999-12-31T23:59:59-12:00"}),
    ],
)
def test_values_that_do_not_fit_are_refused(client: APIClient, path: str, query: dict[str, str]) -> None:
    path = path.format(group=make_static("G", []).pk)
    assert client.get(f"/api/v1/{path}", query).status_code == 422


def test_an_instant_may_be_written_with_any_offset(client: APIClient) -> None:
    path = f"/api/v1/groups/{make_static('G', [make_device()]).pk}/membership-diff"
    assert client.get(path, {"first": "1582-08-03T08:05:49-23:17"}).status_code == 200


def test_what_is_declared_is_what_the_document_says() -> None:
    document = json.loads((ROOT / "docs" / "openapi.json").read_text())
    said = {
        (path.count("{"), call["operationId"]): {p["name"] for p in call.get("parameters", ()) if p["in"] == "query"}
        for path, calls in document["paths"].items()
        for call in calls.values()
    }
    names = {operation: parameters for (_, operation), parameters in said.items()}
    checked = 0
    for pattern in get_resolver().url_patterns:
        view: Any = getattr(pattern.callback, "cls", None)
        # those of the addresses themselves show the document, and are not in it
        if view is None or not view.__module__.startswith("herald.") or view.__module__ == "herald.urls":
            continue
        for method in ("get", "post", "put", "patch", "delete"):
            handler = getattr(view, method, None)
            if handler is None or "schema" not in getattr(handler, "kwargs", {}):
                continue
            schema = handler.kwargs["schema"]()
            schema.view, schema.method = view(), method.upper()
            schema.view.request, schema.view.kwargs = None, {}
            assert set(declared_by(view, method.upper())) == names[schema.get_operation_id()], view
            checked += 1
    assert checked == len(names)


def test_times_on_devices_clocks_are_documented_as_they_are_answered() -> None:
    document = (ROOT / "docs" / "openapi.json").read_text()
    assert '"format": "time"' not in document  # which would be one with a zone
    for time, fits in (("05:30:00", True), ("05:30", True), ("23:59:59.5", True), ("24:00", False), ("5:30", False)):
        assert bool(re.match(CLOCK_TIME, time)) is fits, time


def test_each_call_that_takes_a_body_shows_an_example_that_fits() -> None:
    document = json.loads((ROOT / "docs" / "openapi.json").read_text())
    bodies = {
        call["operationId"]: content
        for calls in document["paths"].values()
        for call in calls.values()
        if (content := call.get("requestBody", {}).get("content", {}).get("application/json"))
    }
    assert len(bodies) > 50
    for operation, content in bodies.items():
        schema = {**content["schema"], "components": document["components"]}
        wrong = [e.message for e in Draft202012Validator(schema).iter_errors(content["example"])]
        known = set(document["components"]["schemas"][content["schema"]["$ref"].rpartition("/")[2]]["properties"])
        assert (wrong, set(content["example"]) - known) == ([], set()), operation
