"""What a forecast starts from. Times are seconds from now."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from herald_core.capacity import Caps
from herald_core.timing.windows import Window, openings

Floats = NDArray[np.floating[Any]]
#: rows of [from, to): when an install may begin
Hours = NDArray[np.float64]
DAY = 86_400.0


class Limit(StrEnum):
    """What can hold a rollout back; a forecast says how much sooner it would end without it."""

    WINDOW = "window"
    FREEZES = "freezes"
    AT_ONCE = "at-once"
    AT_ONCE_PER_SITE = "at-once-per-site"
    STARTS_PER_HOUR = "starts-per-hour"
    UPLINKS = "uplinks"
    SPREAD = "spread"
    SOAK = "soak"
    APPROVALS = "approvals"
    UNHEARD = "unheard"
    OTHERS = "others"


LIMIT_WORDS: Mapping[Limit, str] = {
    Limit.WINDOW: "the window",
    Limit.FREEZES: "freezes",
    Limit.AT_ONCE: "how many may be at it at once",
    Limit.AT_ONCE_PER_SITE: "how many may be at it at once at one site",
    Limit.STARTS_PER_HOUR: "how many may start in an hour",
    Limit.UPLINKS: "how many files the sites' uplinks carry at once",
    Limit.SPREAD: "the spread of starts",
    Limit.SOAK: "the soaks of the gates",
    Limit.APPROVALS: "approvals, at the next working hour",
    Limit.UNHEARD: "gates that wait until few are unheard of",
    Limit.OTHERS: "rollouts that go first with some of its devices",
}


@dataclass(frozen=True, kw_only=True)
class Fleet:
    """The devices that are not through yet, one array element each.

    `hours_of` is the index of the device's hours, `steps` how many installs it needs, `interval` the seconds between
    its calls, `ready` when its pause is over, `attempts` how many it has left. `silent` ones call nobody knows when.
    `site` is the number of its site, `place` (0 to 1) when in the spread it begins.
    """

    ring: NDArray[np.int64]
    hours_of: NDArray[np.int64]
    interval: Floats
    steps: NDArray[np.int64]
    ready: Floats
    attempts: NDArray[np.int64]
    silent: NDArray[np.bool_]
    #: those that keep the file already
    with_file: NDArray[np.bool_]
    #: those whose firmware can fetch a file ahead
    able_ahead: NDArray[np.bool_]
    site: NDArray[np.int64]
    place: Floats

    def __len__(self) -> int:
        return len(self.ring)

    def take(self, chosen: NDArray[np.intp]) -> "Fleet":
        """Some of the devices."""
        return Fleet(**{name: values[chosen] for name, values in self.__dict__.items()})


@dataclass(frozen=True, kw_only=True)
class RemainingRing:
    """A ring and the gate after it. `open` rings take devices now, and opened `opened` seconds ago; `share_reached` is
    how long ago, if it was. `max_unreached` bounds how many may be neither confirmed nor failed; None asks nothing.
    At least `min_tried` must have been tried."""

    confirmed: int
    failed: int
    share: float
    soak: float
    open: bool = False
    opened: float = 0.0
    met: bool = False
    share_reached: float | None = None
    needs_approval: bool = False
    max_unreached: int | None = None
    min_tried: int = 0


@dataclass(frozen=True, kw_only=True)
class ForecastInputs:
    """A rollout as it stands, or as it is planned. Minutes are those of the image.

    `installs` and `fetches` are seconds seen so far; with few of them the image's own minutes are believed.
    `failure_rate` fixes the rate of failing attempts; without it the rate is drawn from what was seen.
    """

    fleet: Fleet
    rings: Sequence[RemainingRing]
    hours: Sequence[Hours]
    minutes: float
    caps: Caps
    max_attempts: int
    failure_limit: float
    horizon: float
    #: how long until a slot that became free is offered to another device
    turn: float = 1.0
    soak: float = 0.0
    #: so long devices begin one after another
    spread: float = 0.0
    fetch: float = 180.0
    #: files come ahead of the hours, where the device can do that and there is time for it
    prefetch: bool = False
    installs: Sequence[float] = ()
    fetches: Sequence[float] = ()
    tried_attempts: int = 0
    failed_attempts: int = 0
    failure_rate: float | None = None
    #: when somebody may approve
    working: Hours | None = None


def hours(
    window: Window | None,
    zone: str,
    freezes: Sequence[tuple[datetime, datetime]],
    *,
    minutes: float,
    now: datetime,
    horizon: float,
) -> Hours:
    """When an install of so many minutes may begin in a zone: in the window, and to end before any freeze. Hours that
    have begun begin before 0."""
    needed = minutes * 60
    parts = [(0.0, horizon)] if window is None else _openings(window, zone, needed, now, horizon)
    for start, end in freezes:
        begins, ends = (start - now).total_seconds() - needed, (end - now).total_seconds()
        cut = []
        for low, high in parts:
            cut += [(low, min(high, begins)), (max(low, ends), high)]
        parts = [(low, high) for low, high in cut if low < high]
    return np.array(parts, dtype=np.float64).reshape(-1, 2)


def _openings(window: Window, zone: str, needed: float, now: datetime, horizon: float) -> list[tuple[float, float]]:
    spans = openings(window, zone, start=now, end=now + timedelta(seconds=horizon))
    begin = [((begins - now).total_seconds(), (ends - now).total_seconds() - needed) for begins, ends in spans]
    return [(low, high) for low, high in begin if high > max(0.0, low)]
