"""What all tests of the server share."""

from collections.abc import Iterator
from datetime import timedelta

import pytest
from rest_framework.test import APIClient

from herald.people import throttling
from herald.time import clock
from tests.factories import NOW, client_as
from tests.strict import answers_are_documented, nothing_hides_in_quarantine  # noqa: F401  autouse fixtures


@pytest.fixture(autouse=True)
def unhurried(monkeypatch: pytest.MonkeyPatch) -> None:
    """A turn of the clock does all there is to do, however slow the machine of the tests is."""
    monkeypatch.setattr("herald.rollouts.engine.tick.TURN_BUDGET_SECONDS", float("inf"))


@pytest.fixture
def fixed_time() -> Iterator[None]:
    """Time stands still at `NOW`."""
    with clock.fixed(NOW):
        yield


@pytest.fixture
def client(db: None) -> APIClient:
    """A client of the API, signed in as an operator."""
    return client_as("operator")


@pytest.fixture
def long_waits(monkeypatch: pytest.MonkeyPatch) -> None:
    """Whoever guesses waits longer than any machine needs for a test: a second is over before a slow one asks again."""
    monkeypatch.setattr(throttling, "FIRST_WAIT", timedelta(minutes=20))
    monkeypatch.setattr(throttling, "LONGEST_WAIT", timedelta(minutes=20))
