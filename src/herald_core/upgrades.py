"""The upgrade graph: which version can be installed over which, and the way from one to another."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from herald_core.versions import version_key


@dataclass(frozen=True, kw_only=True)
class Build:
    """An image as a step of the graph. Sizes in MB, charge in per cent; None or empty asks nothing."""

    id: int
    version: str
    models: frozenset[int]
    hardware_revisions: frozenset[str] = frozenset()
    min_version: str = ""
    max_version: str = ""
    free_space_mb: float | None = None
    min_battery_pct: float | None = None
    #: offered where the newest is asked for: approved, released, not expired and on the stable channel
    current: bool = True

    @cached_property
    def key(self) -> str:
        return version_key(self.version)

    @cached_property
    def _least(self) -> str:
        return version_key(self.min_version) if self.min_version else ""

    @cached_property
    def _most(self) -> str | None:
        return version_key(self.max_version) if self.max_version else None

    def installs_over(self, key: str) -> bool:
        """Whether it can be installed directly on a device of that version."""
        return key != self.key and self._least <= key and (self._most is None or key <= self._most)

    def fits(self, model: int, hardware_revision: str) -> bool:
        """Whether it is for this model and hardware revision."""
        return model in self.models and (not self.hardware_revisions or hardware_revision in self.hardware_revisions)


class UpgradeGraph:
    """The ways between versions of one model and hardware revision."""

    def __init__(self, builds: Iterable[Build]) -> None:
        self.builds: Sequence[Build] = sorted(builds, key=lambda b: b.key, reverse=True)
        self._paths: dict[tuple[str, int], tuple[Build, ...] | None] = {}

    def path(self, key: str, target: Build) -> tuple[Build, ...] | None:
        """The fewest steps from a version to the target, the target last; None where there is no way.

        All steps go the same way, up or down; of equally short ways the one with the newest versions is taken.
        """
        if (key, target.id) not in self._paths:
            self._paths[key, target.id] = self._search(key, target)
        return self._paths[key, target.id]

    def _search(self, start: str, target: Build) -> tuple[Build, ...] | None:
        low, high = min(start, target.key), max(start, target.key)
        between = [b for b in self.builds if low <= b.key <= high and b.id != target.id]
        up = target.key > start
        ways: list[tuple[str, tuple[Build, ...]]] = [(start, ())]
        seen = {start}
        while ways:
            following = []
            for at, way in ways:
                if target.installs_over(at):
                    return (*way, target)
                for build in between:
                    if build.key not in seen and (build.key > at) is up and build.installs_over(at):
                        seen.add(build.key)
                        following.append((build.key, (*way, build)))
            ways = following
        return None

    def newest(self, within: str = "") -> Build | None:
        """The newest current build; with `within` (like "5.1") only of that line of versions."""
        fitting = (b for b in self.builds if b.current and is_within(b.version, within))
        return next(fitting, None)


def is_within(version: str, line: str) -> bool:
    """Whether a version belongs to a line: 5.1.4 is within 5.1 and within 5; all are within the empty line."""
    wanted = line.strip().removeprefix("v").split(".") if line.strip() else []
    return version.strip().removeprefix("v").split("-")[0].split("+")[0].split(".")[: len(wanted)] == wanted


class Upgrades:
    """The graphs of all models and hardware revisions, made as they are asked for."""

    def __init__(self, builds: Iterable[Build]) -> None:
        self.builds: Mapping[int, Build] = {b.id: b for b in builds}
        self._graphs: dict[tuple[int, str], UpgradeGraph] = {}

    def graph(self, model: int, hardware_revision: str) -> UpgradeGraph:
        """The graph for devices of a model and hardware revision."""
        key = (model, hardware_revision)
        if key not in self._graphs:
            self._graphs[key] = UpgradeGraph(b for b in self.builds.values() if b.fits(*key))
        return self._graphs[key]


def cut_off(graph: UpgradeGraph, without: int, standing: Mapping[str, int]) -> int:
    """How many devices could reach the newest version, and could reach no newest one if a build were withdrawn.

    `standing` says how many devices run each version, by its key.
    """
    rest = UpgradeGraph(b for b in graph.builds if b.id != without)
    return sum(n for key, n in standing.items() if _arrives(graph, key) and not _arrives(rest, key))


def _arrives(graph: UpgradeGraph, key: str) -> bool:
    """Whether devices of a version can get to the newest, or have it."""
    newest = graph.newest()
    return newest is not None and (key >= newest.key or graph.path(key, newest) is not None)
