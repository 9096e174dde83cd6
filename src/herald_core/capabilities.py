"""What devices can do besides installing firmware, by their model and the firmware they run."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from enum import StrEnum


class Capability(StrEnum):
    """Something that a rollout or a command may ask of a device, and that not every firmware can."""

    RESTART = "restart"
    REPORT = "report"
    LOGS = "logs"
    HEALTH_CHECK = "health_check"
    READ = "read"
    CLEAR_CACHE = "clear_cache"
    LOCATE = "locate"
    SET_CLOCK = "set_clock"
    RE_ENROL = "re_enrol"
    FILES_AHEAD = "files_ahead"
    NOTICE = "notice"


WORDS: Mapping[Capability, str] = {
    Capability.RESTART: "Restart by command",
    Capability.REPORT: "Report by command",
    Capability.LOGS: "Send logs",
    Capability.HEALTH_CHECK: "Check its health",
    Capability.READ: "Read a value",
    Capability.CLEAR_CACHE: "Clear a cache",
    Capability.LOCATE: "Blink to be found",
    Capability.SET_CLOCK: "Set its clock",
    Capability.RE_ENROL: "Enrol again by command",
    Capability.FILES_AHEAD: "Fetch files ahead",
    Capability.NOTICE: "Show a notice",
}

#: What becomes of a device that is asked for a capability it has not.
LACKING_TEXT: Mapping[Capability, str] = {
    Capability.RESTART: "left out: their firmware cannot restart by command",
    Capability.REPORT: "left out: their firmware cannot report by command",
    Capability.LOGS: "left out: their firmware cannot send logs",
    Capability.HEALTH_CHECK: "left out: their firmware cannot check its health",
    Capability.READ: "left out: their firmware cannot say a value",
    Capability.CLEAR_CACHE: "left out: their firmware cannot clear a cache",
    Capability.LOCATE: "left out: their firmware cannot blink",
    Capability.SET_CLOCK: "left out: their firmware cannot set its clock",
    Capability.RE_ENROL: "left out: their firmware cannot enrol again by command",
    Capability.FILES_AHEAD: "fetch within their hours: their firmware cannot fetch files ahead",
    Capability.NOTICE: "install without the notice: their firmware cannot show one",
}


@dataclass(frozen=True, slots=True)
class Range:
    """Which firmware of a model has a capability: from one version to another, both included, as their keys; open
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
    """The table of models and capabilities. A model of which nothing is said has every capability: a device that cannot
    then says so itself."""

    def __init__(self, ranges: Mapping[tuple[int, Capability], Range]) -> None:
        self._ranges = ranges
        self._lacks: dict[tuple[int, str | None], frozenset[Capability]] = {}

    def lacks(self, model: int, key: str | None) -> frozenset[Capability]:
        """The capabilities that a device of this model with this firmware has not."""
        known = self._lacks.get((model, key))
        if known is None:
            known = self._lacks[model, key] = frozenset(
                f for f in Capability if not self._ranges.get((model, f), Range()).holds(key)
            )
        return known

    def limits(self, capabilities: Collection[Capability]) -> bool:
        """Whether any model lacks one of these on some firmware."""
        return any(f in capabilities for _, f in self._ranges)
