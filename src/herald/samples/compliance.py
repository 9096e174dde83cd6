"""How much of the fleet runs an approved version, how that came about, and when the rest will.

What is expected comes from the forecasts that are kept of running rollouts: how many devices each confirms in each
hour, by the median of its simulated futures. A device that two rollouts want is counted by both, so the sum is bounded
by what is missing.
"""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from herald.images.models import Image
from herald.rollouts.models import Rollout, RolloutState
from herald.samples.models import FleetSample
from herald.samples.services import OTHERS, fleet_now

HOUR = timedelta(hours=1)
#: bands that a family's picture tells apart; the others are one
MOST_BANDS = 6


@dataclass(frozen=True)
class Point:
    """The fleet at a moment: how many devices, on an approved version, and on time."""

    at: datetime
    devices: int
    approved: int
    on_time: int


@dataclass(frozen=True)
class Band:
    """A version of a family over the moments of the points: how many devices ran it, and whether it is approved now."""

    version: str
    approved: bool
    devices: list[int]


@dataclass(frozen=True)
class Family:
    """A family's versions over time, the one with most devices now first; `target` is its newest approved version."""

    family: str
    target: str
    devices: int
    approved: int
    bands: list[Band]


@dataclass(frozen=True)
class Expected:
    """What running rollouts are expected to add: so many devices on an approved version by a moment."""

    at: datetime
    approved: int


@dataclass(frozen=True)
class Standing:
    """How the fleet stands: devices, those on an approved version, those of the rest that a running rollout reaches,
    and when the last of these is expected; None where no end is in sight, or none is on its way."""

    devices: int
    approved: int
    on_the_way: int
    rollouts: int
    expected_at: datetime | None


def standing(now: datetime) -> Standing:
    """How much of the fleet is where it should be, and when the rest of it will be."""
    parts = fleet_now(now)
    devices, approved = sum(p.devices for p in parts), sum(p.approved * p.devices for p in parts)
    running = running_rollouts()
    steps = expected(now, devices - approved, running)
    on_the_way = min(devices - approved, sum(_left(r) for r in running))
    ends = [r.forecast.median for r in running]
    end = max((e for e in ends if e is not None), default=None) if all(ends) else None
    return Standing(devices, approved, on_the_way, len(running), end if steps else None)


def expected(now: datetime, missing: int, running: Sequence[Rollout]) -> list[Expected]:
    """What is expected to be added, hour by hour, until nothing is."""
    added: dict[datetime, float] = defaultdict(float)
    for rollout in running:
        for n, count in enumerate(rollout.forecast.hourly):
            at = rollout.forecast.at + (n + 1) * HOUR
            if at > now and count:
                added[at.replace(minute=0, second=0, microsecond=0)] += count
    found, total = [], 0.0
    for at in sorted(added):
        total = min(float(missing), total + added[at])
        found.append(Expected(at, round(total)))
    return found


def over_time(since: datetime, now: datetime) -> tuple[list[Point], list[Family]]:
    """The samples since a moment, as points of the whole fleet and as bands of each family; the last point is now."""
    rows = list(
        FleetSample.objects.filter(at__gte=since, at__lt=now)
        .order_by("at")
        .values_list("at", "family", "version", "approved", "devices", "on_time")
    )
    rows += [(now, p.family, p.version, p.approved, p.devices, p.on_time) for p in fleet_now(now)]
    moments = sorted({r[0] for r in rows})
    place = {at: n for n, at in enumerate(moments)}
    sums = [[0, 0, 0] for _ in moments]
    bands: dict[str, dict[str, list[int]]] = defaultdict(lambda: defaultdict(lambda: [0] * len(moments)))
    approved_now: dict[tuple[str, str], int] = defaultdict(int)
    for at, family, version, approved, devices, on_time in rows:
        n = place[at]
        sums[n][0] += devices
        sums[n][1] += devices if approved else 0
        sums[n][2] += on_time
        bands[family][version][n] += devices
        if at == now and approved:
            approved_now[family, version] += devices
    points = [Point(at, *counts) for at, counts in zip(moments, sums, strict=True)]
    targets = _targets()
    families = [_family(name, bands[name], approved_now, targets.get(name, "")) for name in bands]
    return points, sorted(families, key=lambda f: (-f.devices, f.family))


def _family(name: str, bands: dict[str, list[int]], approved_now: dict[tuple[str, str], int], target: str) -> Family:
    ordered = sorted(bands, key=lambda v: (v != target, -bands[v][-1], -max(bands[v]), v))
    shown, rest = ordered[:MOST_BANDS], ordered[MOST_BANDS:]
    found = [Band(v, approved_now[name, v] > 0 or v == target, bands[v]) for v in shown]
    if rest:
        together = [sum(counts) for counts in zip(*(bands[v] for v in rest), strict=True)]
        found.append(Band(OTHERS, all(approved_now[name, v] > 0 for v in rest), together))
    return Family(
        family=name,
        target=target,
        devices=sum(b.devices[-1] for b in found),
        approved=sum(n for (family, _), n in approved_now.items() if family == name),
        bands=found,
    )


def _targets() -> dict[str, str]:
    """The newest approved version of each family."""
    rows = Image.objects.approved().order_by("family", "-version_key").values_list("family", "version")
    found: dict[str, str] = {}
    for family, version in rows:
        found.setdefault(family, version)
    return found


def running_rollouts() -> list[Rollout]:
    """Rollouts that run and of which a forecast is kept."""
    found = Rollout.objects.filter(state=RolloutState.RUNNING).select_related("forecast")
    return [rollout for rollout in found if rollout.current_forecast is not None]


def _left(rollout: Rollout) -> int:
    hourly: list[float] = rollout.forecast.hourly
    return round(sum(hourly))
