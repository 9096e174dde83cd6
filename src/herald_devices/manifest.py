"""What the fleet process is told at its start: the devices, and how some of them fail."""

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from herald_core.versions import version_key


@dataclass(frozen=True, kw_only=True)
class Fault:
    """Devices that fit fail to install `version` with this chance and word."""

    version: str
    chance: float
    error: str
    uplink: str = ""
    hardware: str = ""
    below: str = ""


@dataclass(kw_only=True)
class Persona:
    """A device as it was made, and what it runs now."""

    uid: str
    secret: str
    model: str
    hardware: str
    firmware: str | None
    site: str
    interval_seconds: int
    facts: dict[str, Any]
    silent: bool
    #: there is something on it that people read
    shows_notices: bool = True


def load_manifest(path: Path) -> tuple[list[Persona], list[Fault]]:
    """Devices and faults from the manifest's JSON."""
    data = json.loads(path.read_text())
    return [Persona(**d) for d in data["devices"]], [Fault(**f) for f in data["faults"]]


def strikes(fault: Fault, persona: Persona, version: str) -> bool:
    """Whether a fault can strike this device when it installs this version."""
    if fault.version != version:
        return False
    if fault.uplink and persona.facts.get("uplink") != fault.uplink:
        return False
    if fault.hardware and persona.hardware != fault.hardware:
        return False
    below = version_key(fault.below) if fault.below else None
    return below is None or (persona.firmware is not None and version_key(persona.firmware) < below)
