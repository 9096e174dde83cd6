"""Preflight: what an image would mean for each device of an audience."""

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

from herald_core.versions import version_key


class Outcome(StrEnum):
    """What becomes of a device if the rollout is launched."""

    STRAIGHT = "straight"
    LATE = "late"
    ALREADY = "already"
    NO_IMAGE = "no_image"
    WRONG_HARDWARE = "wrong_hardware"
    NO_PATH = "no_path"
    DOWNGRADE = "downgrade"
    NO_VERSION = "no_version"
    NO_SPACE = "no_space"
    LOW_POWER = "low_power"
    NOT_ADMITTED = "not_admitted"
    RETIRED = "retired"
    PROMISED = "promised"


#: Outcomes that take part; all others but ALREADY are left out.
TAKES_PART = frozenset({Outcome.STRAIGHT, Outcome.LATE, Outcome.PROMISED})

WORDS: Mapping[Outcome, str] = {
    Outcome.STRAIGHT: "go straight to it",
    Outcome.LATE: "take part, but silent: may be late",
    Outcome.ALREADY: "already on it: confirmed at once, nothing sent",
    Outcome.NO_IMAGE: "left out: the image is not for this model",
    Outcome.WRONG_HARDWARE: "left out: the image is not for this hardware revision",
    Outcome.NO_PATH: "left out: no direct step from its version",
    Outcome.DOWNGRADE: "left out: it runs a newer version",
    Outcome.NO_VERSION: "left out: it reports no firmware version",
    Outcome.NO_SPACE: "left out: too little free space",
    Outcome.LOW_POWER: "left out: battery too low",
    Outcome.NOT_ADMITTED: "left out: not admitted",
    Outcome.RETIRED: "left out: retired",
    Outcome.PROMISED: "take part, after another order that they have now",
}


@dataclass(frozen=True, kw_only=True)
class ImageNeeds:
    """What an image asks of a device. Sizes in MB, charge in per cent; None asks nothing."""

    version: str
    models: frozenset[int]
    hardware_revisions: frozenset[str] = frozenset()
    min_version: str = ""
    max_version: str = ""
    free_space_mb: float | None = None
    min_battery_pct: float | None = None


@dataclass(frozen=True, slots=True)
class Candidate:
    """A device of the audience, as far as preflight looks. Facts that it does not report are None."""

    id: int
    model_id: int
    hardware_revision: str
    firmware_key: str | None
    admission: str
    silent: bool
    free_space_mb: float | None
    battery_pct: float | None
    on_mains: bool
    in_hand: bool


class Preflight:
    """Sorts devices for one image; made once, asked for each device."""

    def __init__(self, needs: ImageNeeds) -> None:
        self.needs = needs
        self._target = version_key(needs.version)
        self._min = version_key(needs.min_version) if needs.min_version else None
        self._max = version_key(needs.max_version) if needs.max_version else None

    def outcome(self, device: Candidate) -> Outcome:
        """The first outcome that applies, the most fundamental first."""
        needs = self.needs
        if device.admission == "retired":
            return Outcome.RETIRED
        if device.admission != "admitted":
            return Outcome.NOT_ADMITTED
        if device.model_id not in needs.models:
            return Outcome.NO_IMAGE
        if needs.hardware_revisions and device.hardware_revision not in needs.hardware_revisions:
            return Outcome.WRONG_HARDWARE
        key = device.firmware_key
        if key is None:
            return Outcome.NO_VERSION
        if key == self._target:
            return Outcome.ALREADY
        if key > self._target:
            return Outcome.DOWNGRADE
        if (self._min and key < self._min) or (self._max and key > self._max):
            return Outcome.NO_PATH
        return self._readiness(device)

    def _readiness(self, device: Candidate) -> Outcome:
        needs, space, battery = self.needs, device.free_space_mb, device.battery_pct
        if needs.free_space_mb is not None and space is not None and space < needs.free_space_mb:
            return Outcome.NO_SPACE
        least = None if device.on_mains else needs.min_battery_pct
        if least is not None and battery is not None and battery < least:
            return Outcome.LOW_POWER
        if device.silent:
            return Outcome.LATE
        return Outcome.PROMISED if device.in_hand else Outcome.STRAIGHT
