"""The bugs to plant can be planted: each stands where the list says, once, and changes something."""

from pathlib import Path

import pytest

from tests.mutants.bugs import PYTHON, WEB, Bug

ROOT = Path(__file__).parents[2]


@pytest.mark.parametrize("bug", [*PYTHON, *WEB], ids=lambda bug: f"{bug.file}: {bug.old[:30]}")
def test_a_bug_can_be_planted(bug: Bug) -> None:
    assert (ROOT / bug.file).read_text().count(bug.old) == 1
    assert bug.new != bug.old
    assert all((ROOT / test).is_file() for test in bug.tests)
    assert bug.tests or bug.file.startswith("web/")


def test_there_are_enough_of_them_and_in_many_places() -> None:
    assert len(PYTHON) >= 40 and len(WEB) >= 20
    assert len({b.file for b in PYTHON}) >= 25 and len({b.file for b in WEB}) >= 10
