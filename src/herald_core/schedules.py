"""Where a scheduled command stands: the one answer that list, page and API go by."""

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

from herald_core.deliveries import ACTIVE, Phase


class ScheduleStatus(StrEnum):
    """Where a scheduled command stands."""

    ENDED = "ended"
    PROPOSED = "proposed"  # it waits for a second person
    QUARANTINED = "quarantined"
    PAUSED = "paused"
    MOVING = "moving"  # devices have the order and carry it out
    UNHEARD = "unheard"  # all that were offered it or have it are not heard from
    OFFERED = "offered"  # it is offered, and nobody has taken it yet
    WAITING = "waiting"  # it has fired, and devices wait to be offered it
    NOBODY = "nobody"  # it will fire, and is for no device now
    NEXT = "next"  # it waits for its next firing
    DONE = "done"  # it will not fire again


@dataclass(frozen=True, kw_only=True)
class ScheduleSight:
    """A schedule as far as its status depends on it. `phases` count the devices of its firings, of which `unheard` in
    hand are not heard from in time; `reached` is how many it is for now, `fires_again` whether any firing is to come.
    """

    state: str
    phases: Mapping[str, int]
    unheard: int = 0
    reached: int = 0
    fires_again: bool = False
    quarantined: bool = False


def schedule_status(seen: ScheduleSight) -> tuple[ScheduleStatus, int]:
    """The status, and how many devices it speaks of."""
    offered = seen.phases.get(Phase.OFFERED, 0)
    in_hand = sum(seen.phases.get(p, 0) for p in ACTIVE)
    waiting = seen.phases.get(Phase.WAITING, 0)
    if seen.quarantined:
        return ScheduleStatus.QUARANTINED, 0
    if seen.state in ("paused", "ended", "proposed"):
        return ScheduleStatus(seen.state), in_hand
    if in_hand and seen.unheard >= in_hand:
        return ScheduleStatus.UNHEARD, in_hand
    if in_hand > offered:
        return ScheduleStatus.MOVING, in_hand - offered
    if offered:
        return ScheduleStatus.OFFERED, offered
    if waiting:
        return ScheduleStatus.WAITING, waiting
    if not seen.fires_again:
        return ScheduleStatus.DONE, 0
    return (ScheduleStatus.NEXT, seen.reached) if seen.reached else (ScheduleStatus.NOBODY, 0)
