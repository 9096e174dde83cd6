"""What every test is held to: nothing hides in quarantine, and the API answers what its document says."""

import json
import re
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from django.urls import Resolver404, resolve
from rest_framework.test import APIClient

from herald.attention.models import Part
from herald.attention.quarantine import Isolation


@pytest.fixture(autouse=True)
def nothing_hides_in_quarantine(monkeypatch: pytest.MonkeyPatch, request: pytest.FixtureRequest) -> None:
    """What fails within a turn of the clock fails the test, unless the test is about quarantine."""
    if request.node.get_closest_marker("quarantines"):
        return

    def raise_it(self: Isolation, part: Part, object_id: int, error: Exception) -> None:
        raise error

    monkeypatch.setattr(Isolation, "_put", raise_it)


@cache
def documented() -> dict[tuple[str, str], dict[str, frozenset[str]]]:
    """The statuses that the document says each call may answer with, and the types of each; names within addresses are
    left out."""
    document = json.loads((Path(__file__).parents[1] / "docs" / "openapi.json").read_text())
    return {
        (re.sub(r"{\w+}", "{}", path), method): {
            status: frozenset(r.get("content", ())) for status, r in call["responses"].items()
        }
        for path, calls in document["paths"].items()
        for method, call in calls.items()
    }


@pytest.fixture(autouse=True)
def answers_are_documented(monkeypatch: pytest.MonkeyPatch) -> None:
    """A call that answers with a status or a type of content that the OpenAPI document does not name fails the test."""
    real = APIClient.request

    def request(self: APIClient, **asked: Any) -> Any:
        answer = real(self, **asked)
        try:
            route = resolve(asked["PATH_INFO"]).route
        except Resolver404:
            return answer
        call = (re.sub(r"<[^>]+>", "{}", f"/{route}"), asked["REQUEST_METHOD"].lower())
        said = documented().get(call)
        if said is not None:
            status, kind = str(answer.status_code), answer.get("Content-Type", "").partition(";")[0]
            assert status in said, f"{call} answered {status}; {sorted(said)}"
            assert not kind or kind in said[status], f"{call} answered {status} as {kind}; {sorted(said[status])}"
        return answer

    monkeypatch.setattr(APIClient, "request", request)
