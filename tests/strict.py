"""What fails within a turn of the clock fails the test."""

import pytest

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
