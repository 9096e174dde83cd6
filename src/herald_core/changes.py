"""The change table of a rollout: which devices are to get which version."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property

from herald_core.upgrades import Build, Upgrades
from herald_core.versions import version_key


class Choice(StrEnum):
    """How a row chooses its target."""

    IMAGE = "image"
    NEWEST = "newest"
    WITHIN = "within"
    LEAVE_OUT = "leave_out"


@dataclass(frozen=True, kw_only=True)
class Change:
    """One row: devices of a model (None: of any that the target is for), an uplink and a current version (empty:
    any), and their target. `within` is a line of versions like "5.1"."""

    choice: Choice
    model: int | None = None
    uplink: str = ""
    from_version: str = ""
    image: int | None = None
    within: str = ""

    @cached_property
    def from_key(self) -> str:
        return version_key(self.from_version) if self.from_version else ""

    @property
    def narrowness(self) -> tuple[bool, int]:
        """The row that says more about a device wins."""
        return self.model is not None, bool(self.uplink) + bool(self.from_version)


class ChangeTable:
    """Asked for each kind of device which row is about it, and what its target is."""

    def __init__(self, changes: Sequence[Change], upgrades: Upgrades) -> None:
        self.upgrades = upgrades
        self._rows = sorted(changes, key=lambda c: c.narrowness, reverse=True)

    def row(self, model: int, uplink: str, key: str | None) -> Change | None:
        """The row about such devices; None where the table does not speak of them."""
        return next((c for c in self._rows if self._is_about(c, model, uplink, key)), None)

    def _is_about(self, change: Change, model: int, uplink: str, key: str | None) -> bool:
        if change.model is None and change.choice is Choice.IMAGE:
            build = self.upgrades.builds.get(change.image or 0)
            if build is None or model not in build.models:
                return False
        return (
            change.model in (None, model)
            and change.uplink in ("", uplink)
            and (not change.from_key or change.from_key == key)
        )

    def target(self, change: Change, model: int, hardware_revision: str) -> Build | None:
        """What a row means for devices of a model and revision; None where there is no such image for them."""
        if change.choice is Choice.LEAVE_OUT:
            return None
        if change.choice is Choice.IMAGE:
            build = self.upgrades.builds.get(change.image or 0)
            return build if build and model in build.models else None
        line = change.within if change.choice is Choice.WITHIN else ""
        return self.upgrades.graph(model, hardware_revision).newest(line)
