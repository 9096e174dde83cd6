"""The upgrade graph: shortest ways, dead ends, and what withdrawing a step cuts off."""

from collections import deque

import pytest
from hypothesis import given
from hypothesis import strategies as st

from herald_core.upgrades import Build, UpgradeGraph, Upgrades, cut_off, is_within
from herald_core.versions import version_key

MODEL = 1


def build(version: str, least: str = "", most: str = "", **more: object) -> Build:
    number = int("".join(c for c in version if c.isdigit()))
    fields = {"id": number, "models": frozenset({MODEL}), "min_version": least, "max_version": most, **more}
    return Build(version=version, **fields)  # type: ignore[arg-type]


SILL = [
    build("4.8.0"),
    build("4.9.2", "4.6.0"),
    build("5.0.1", "4.8.0"),
    build("5.1.4", "5.0.0"),
    build("5.2.1", "5.0.0"),
]


def way(builds: list[Build], start: str, target: str) -> list[str] | None:
    graph = UpgradeGraph(builds)
    found = graph.path(version_key(start), next(b for b in builds if b.version == target))
    return None if found is None else [b.version for b in found]


def test_old_ones_pass_the_stepping_stone() -> None:
    assert way(SILL, "5.1.4", "5.2.1") == ["5.2.1"]
    assert way(SILL, "4.9.2", "5.2.1") == ["5.0.1", "5.2.1"]
    assert way(SILL, "4.6.0", "5.2.1") == ["4.9.2", "5.0.1", "5.2.1"]
    assert way(SILL, "4.0", "5.2.1") == ["4.8.0", "5.0.1", "5.2.1"]
    assert way([b for b in SILL if b.version != "5.0.1"], "4.9.2", "5.2.1") is None


def test_a_way_down_goes_only_down() -> None:
    assert way(SILL, "5.2.1", "5.1.4") == ["5.1.4"]
    assert way([build("1.0", most="2.0"), build("2.0"), build("3.0")], "3.0", "1.0") == ["2.0", "1.0"]


def test_a_way_up_never_turns_back() -> None:
    builds = [build("2.0", "2.5"), build("3.0", "1.0", "1.5"), build("4.0", "2.0", "2.0")]
    assert way(builds, "1.0", "3.0") == ["3.0"]
    assert way(builds, "1.0", "4.0") is None


@given(
    st.lists(
        st.tuples(st.integers(1, 9), st.integers(0, 9), st.integers(0, 9)),
        min_size=1,
        max_size=7,
        unique_by=lambda t: t[0],
    ),
    st.integers(0, 9),
)
def test_ways_are_the_shortest_there_are(rows: list[tuple[int, int, int]], start: int) -> None:
    builds = [build(f"{v}", f"{a}" if a else "", f"{b}" if b else "") for v, a, b in rows]
    target = builds[0]
    found = UpgradeGraph(builds).path(version_key(str(start)), target)
    fewest = _fewest(builds, start, int(target.version))
    assert (None if found is None else len(found)) == fewest
    if found:
        at = version_key(str(start))
        for step in found:
            assert step.installs_over(at)
            at = step.key
        assert found[-1] is target


def _fewest(builds: list[Build], start: int, target: int) -> int | None:
    """Breadth-first over numbers, for the way up and the way down alike."""
    queue, seen = deque([(start, 0)]), {start}
    while queue:
        at, steps = queue.popleft()
        for b in builds:
            number = int(b.version)
            least, most = int(b.min_version or 0), int(b.max_version or 99)
            inside = start < number <= target if target > start else target <= number < start
            onward = number > at if target > start else number < at
            if number != at and least <= at <= most and inside and onward:
                if number == target:
                    return steps + 1
                if number not in seen:
                    seen.add(number)
                    queue.append((number, steps + 1))
    return None


def test_newest_passes_over_what_is_not_current_or_not_in_the_line() -> None:
    graph = UpgradeGraph([*SILL, build("6.0.0", current=False)])
    assert graph.newest() is SILL[-1]
    assert graph.newest("5.1") is SILL[3]
    assert graph.newest("7") is None


@pytest.mark.parametrize(
    ("version", "line", "expected"),
    [("5.1.4", "5.1", True), ("5.10.0", "5.1", False), ("v5.1", "5", True), ("5.1-rc.1", "5.1", True), ("5", "", True)],
)
def test_lines_of_versions(version: str, line: str, expected: bool) -> None:
    assert is_within(version, line) is expected


def test_withdrawing_a_stone_cuts_off_who_is_before_it() -> None:
    standing = {version_key(v): n for v, n in {"4.8.0": 6, "4.9.2": 9, "5.1.4": 46, "5.2.1": 3}.items()}
    graph = UpgradeGraph(SILL)
    assert cut_off(graph, 501, standing) == 15
    assert cut_off(graph, 492, standing) == 0
    assert cut_off(graph, 514, standing) == 0


def test_hardware_revisions_have_graphs_of_their_own() -> None:
    late = build("6.0.0", hardware_revisions=frozenset({"C"}))
    upgrades = Upgrades([*SILL, late])
    assert upgrades.graph(MODEL, "B").newest() is SILL[-1]
    assert upgrades.graph(MODEL, "C").newest() is late
    assert upgrades.graph(2, "C").newest() is None
