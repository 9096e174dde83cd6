"""What devices can do besides installing firmware, by their model and the firmware they run."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from enum import StrEnum


class Function(StrEnum):
    """Something that a rollout or a command may ask of a device, and that not every firmware can."""

    RESTART = "restart"
    FILES_AHEAD = "files_ahead"
    NOTICE = "notice"


WORDS: Mapping[Function, str] = {
    Function.RESTART: "Restart by command",
    Function.FILES_AHEAD: "Fetch files ahead",
    Function.NOTICE: "Show a notice",
}

#: What becomes of a device that is asked for a function it has not.
WITHOUT: Mapping[Function, str] = {
    Function.RESTART: "left out: their firmware cannot restart by command",
    Function.FILES_AHEAD: "fetch within their hours: their firmware cannot fetch files ahead",
    Function.NOTICE: "install without the notice: their firmware cannot show one",
}


@dataclass(frozen=True, slots=True)
class Range:
    """Which firmware of a model has a function: from one version to another, both included, as their keys; open
    where None. `never` is none at all."""

    from_key: str | None = None
    to_key: str | None = None
    never: bool = False

    def holds(self, key: str | None) -> bool:
        """Whether firmware of this key has it. Firmware that is not known has it only where all has."""
        if self.never:
            return False
        if self.from_key is None and self.to_key is None:
            return True
        return key is not None and (self.from_key or key) <= key <= (self.to_key or key)


class Supported:
    """The table of models and functions. A model of which nothing is said has every function: a device that cannot
    then says so itself."""

    def __init__(self, ranges: Mapping[tuple[int, Function], Range]) -> None:
        self._ranges = ranges
        self._lacks: dict[tuple[int, str | None], frozenset[Function]] = {}

    def lacks(self, model: int, key: str | None) -> frozenset[Function]:
        """The functions that a device of this model with this firmware has not."""
        known = self._lacks.get((model, key))
        if known is None:
            known = self._lacks[model, key] = frozenset(
                f for f in Function if not self._ranges.get((model, f), Range()).holds(key)
            )
        return known

    def limits(self, functions: Collection[Function]) -> bool:
        """Whether any model lacks one of these on some firmware."""
        return any(f in functions for _, f in self._ranges)
