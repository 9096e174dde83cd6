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
def documented() -> dict[tuple[str, str], frozenset[str]]:
    """The statuses that the document says each call may answer with; names within addresses are left out."""
    document = json.loads((Path(__file__).parents[1] / "docs" / "openapi.json").read_text())
    return {
        (re.sub(r"{\w+}", "{}", path), method): frozenset(call["responses"])
        for path, calls in document["paths"].items()
        for method, call in calls.items()
    }


@pytest.fixture(autouse=True)
def answers_are_documented(monkeypatch: pytest.MonkeyPatch) -> None:
    """A call that answers with a status which the OpenAPI document does not name fails the test."""
    real = APIClient.request

    def request(self: APIClient, **asked: Any) -> Any:
        answer = real(self, **asked)
        try:
            route = resolve(asked["PATH_INFO"]).route
        except Resolver404:
            return answer
        call = (re.sub(r"<[^>]+>", "{}", f"/{route}"), asked["REQUEST_METHOD"].lower())
        said = documented().get(call)
        if said and asked.get("HTTP_HERALD_DRY_RUN"):
            said |= {"200"}  # whatever the call itself answers with
        assert said is None or str(answer.status_code) in said, f"{call} answered {answer.status_code}; {sorted(said)}"
        return answer

    monkeypatch.setattr(APIClient, "request", request)
