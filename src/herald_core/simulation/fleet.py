"""Simulated devices: when they call, and how each of their attempts goes. All from one seed."""

import random
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from herald_core.timing.spread import spread_position_of


@dataclass(frozen=True, kw_only=True)
class SimDevice:
    """A device that calls every `interval`, the first time `offset` after the start.

    `group` marks it for freezes that hold some devices only; until `silent_for` it does not call at all. `able_ahead`
    is whether it can fetch files ahead, `place` (0 to 1) when in the rollout's spread it begins.
    """

    id: int
    zone: str
    ring: int
    interval: timedelta
    offset: timedelta
    group: bool = False
    silent_for: timedelta = timedelta(0)
    able_ahead: bool = True
    site: int = 0
    place: float = 0.0

    def call_after(self, start: datetime, moment: datetime) -> datetime:
        """Its first regular call later than `moment`."""
        first = start + self.offset
        earliest = max(moment, start + self.silent_for)
        if first > earliest:
            return first
        return first + self.interval * ((earliest - first) // self.interval + 1)

    def call_before(self, start: datetime, moment: datetime) -> datetime | None:
        """Its last regular call up to `moment`; None where it has not called yet."""
        latest = self.call_after(start, moment) - self.interval
        has_called = start + self.silent_for < latest <= moment and latest >= start + self.offset
        return latest if has_called else None


@dataclass(frozen=True, kw_only=True)
class Attempt:
    """How one attempt goes: the fetch, the install, and the error it ends in (empty for none).

    `lost` devices fall silent while they install.
    """

    fetch: timedelta
    install: timedelta
    error: str = ""
    lost: bool = False

    def with_file(self) -> "Attempt":
        """The same attempt where the file is there already: nothing is fetched, so nothing is spoiled."""
        return replace(self, fetch=timedelta(0), error="" if self.error == "bad-hash" else self.error)


@dataclass(frozen=True, kw_only=True)
class Behaviour:
    """What devices do, drawn from a seed by device and attempt. Rates are 0 to 1 for each attempt.

    An install takes 0.5 to 1.2 of `minutes`, a fetch `fetch` on average.
    """

    seed: int
    minutes: int = 10
    fetch: timedelta = timedelta(minutes=3)
    failure_rate: float = 0.0
    #: failing of these devices, in place of the common rate
    failure_rate_of: dict[int, float] | None = None
    spoiled_rate: float = 0.0
    lost_rate: float = 0.0

    def attempt(self, device: int, attempt: int) -> Attempt:
        """How an attempt of a device goes; the same one goes the same way each time."""
        rng = random.Random(f"{self.seed} {device} {attempt}")
        fetch = self.fetch * rng.uniform(0.4, 1.6)
        install = timedelta(minutes=self.minutes) * rng.uniform(0.5, 1.2)
        rate = (self.failure_rate_of or {}).get(device, self.failure_rate)
        error = "bad-hash" if rng.random() < self.spoiled_rate else ""
        if not error and rng.random() < rate:
            error = "flash-verify"
        return Attempt(
            fetch=_whole(fetch), install=_whole(install), error=error, lost=not error and rng.random() < self.lost_rate
        )


def _whole(span: timedelta) -> timedelta:
    return timedelta(seconds=round(span.total_seconds()))


def make_fleet(
    count: int,
    *,
    zones: Sequence[str],
    rings: Sequence[float],
    seed: int,
    intervals: Sequence[int] = (600, 900, 1800),
    silent_share: float = 0.0,
    sites: int = 6,
) -> list[SimDevice]:
    """Devices spread over zones, sites, intervals (in seconds) and rings, whose shares add up to 1."""
    rng = random.Random(f"fleet {seed}")
    bounds = [sum(rings[: i + 1]) for i in range(len(rings))]
    devices = []
    for number in range(count):
        interval = rng.choice(intervals)
        at = (number + 0.5) / count
        devices.append(
            SimDevice(
                id=number + 1,
                zone=rng.choice(zones),
                ring=next((i for i, b in enumerate(bounds) if at <= b + 1e-9), len(rings) - 1),
                interval=timedelta(seconds=interval),
                offset=timedelta(seconds=rng.randrange(interval)),
                group=rng.random() < 0.3,
                silent_for=timedelta(hours=rng.uniform(24, 240)) if rng.random() < silent_share else timedelta(0),
                site=number % sites,
                place=spread_position_of(f"{seed}/{number}"),
            )
        )
    return devices
