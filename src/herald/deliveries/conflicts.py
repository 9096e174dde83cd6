"""What else wants the devices of something that is planned. Rooms above say so at start-up, this room knows none."""

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from django.db.models import QuerySet

    from herald.fleet.models import Device


@dataclass(frozen=True, kw_only=True)
class AudienceConflict:
    """Something that wants so many of the same devices, and what will happen."""

    kind: str
    id: int
    name: str
    devices: int
    what: str


Finder = Callable[["QuerySet[Device]", datetime], list[AudienceConflict]]
_FINDERS: list[Finder] = []


def register_conflict_finder(finder: Finder) -> Finder:
    """Let a room say which of its things want some of these devices."""
    _FINDERS.append(finder)
    return finder


def conflicts_with_others(devices: "QuerySet[Device]", now: datetime) -> list[AudienceConflict]:
    """What the rooms above say."""
    return [conflict for finder in _FINDERS for conflict in finder(devices, now)]
