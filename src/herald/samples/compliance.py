"""How much of the fleet runs an approved version, how that came about, and when the rest will.

What is expected comes from the forecasts that are kept of running rollouts: how many devices each confirms in each
hour, by the median of its simulated futures. Many of those run an approved version already; so each hour counts by the
share of the rollout's remaining devices that do not. A device that two rollouts want is counted by both, so the sum is
bounded by those that are on their way.
"""

from collections import defaultdict
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db.models import Count, QuerySet

from herald.deliveries.models import Delivery
from herald.fleet.models import Admission
from herald.images.models import Image
from herald.rollouts.models import Rollout, RolloutState
from herald.samples.models import FleetSample
from herald.samples.services import OTHERS, admitted_by_version, approved_versions, fleet_now, newest_of
from herald_core.deliveries import OPEN

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
    """How the fleet stands: admitted devices, those on an approved version, those on the newest one for their model;
    of those that are missing, how many a running rollout reaches, and when the last is expected; None where no end is
    in sight, or none is on its way."""

    devices: int
    approved: int
    newest: int
    on_the_way: int
    rollouts: int
    expected_at: datetime | None


@dataclass(frozen=True)
class OnTheWay:
    """What a running rollout still has to do: its devices that are not through, and those of them whose version is not
    approved."""

    rollout: Rollout
    devices: int
    missing: int


def standing(ways: Sequence[OnTheWay]) -> Standing:
    """How much of the fleet is where it should be, and when the rest of it will be, by what is on its way."""
    rows, approved = admitted_by_version(), approved_versions()
    newest = newest_of(approved)
    # of one rollout each device counts once anyhow
    reached = ways[0].missing if len(ways) == 1 else _missing([w.rollout.pk for w in ways], approved)
    ends = [w.rollout.forecast.median for w in ways if w.missing]
    return Standing(
        devices=sum(n for _, _, n in rows),
        approved=sum(n for model, key, n in rows if (model, key) in approved),
        newest=sum(n for model, key, n in rows if key is not None and key == newest.get(model)),
        on_the_way=reached,
        rollouts=sum(w.missing > 0 for w in ways),
        expected_at=max(e for e in ends if e is not None) if ends and all(ends) else None,
    )


def on_the_way() -> list[OnTheWay]:
    """The rollouts that run and of which a forecast is kept, with what they still have to do."""
    running = Rollout.objects.filter(state=RolloutState.RUNNING).select_related("forecast")
    found = {r.pk: r for r in running if r.current_forecast is not None}
    devices: dict[int, int] = defaultdict(int)
    missing: dict[int, int] = defaultdict(int)
    approved = approved_versions()
    rows = _still_to_do(found).values_list("rollout", "device__model", "device__firmware_key")
    for rollout, model, key, count in rows.annotate(count=Count("pk")):
        devices[rollout] += count
        missing[rollout] += 0 if (model, key) in approved else count
    return [OnTheWay(r, devices[pk], missing[pk]) for pk, r in found.items()]


def _missing(rollout_ids: Iterable[int], approved: Collection[tuple[int, str]]) -> int:
    """How many devices whose version is not approved these rollouts reach, each counted once."""
    rows = _still_to_do(rollout_ids).values_list("device__model", "device__firmware_key")
    counted = rows.annotate(count=Count("device", distinct=True))
    return sum(count for model, key, count in counted if (model, key) not in approved)


def _still_to_do(rollout_ids: Iterable[int]) -> "QuerySet[Delivery]":
    """Deliveries of these rollouts to admitted devices that are not through."""
    found = Delivery.objects.filter(rollout__in=list(rollout_ids), is_current_step=True, phase__in=OPEN)
    return found.filter(device__admission=Admission.ADMITTED).order_by()


def expected(now: datetime, stands: Standing, ways: Sequence[OnTheWay]) -> list[Expected]:
    """What is expected to be added, hour by hour, until the last that is on its way."""
    added: dict[datetime, float] = defaultdict(float)
    for way in ways:
        forecast = way.rollout.forecast
        for n, count in enumerate(forecast.hourly):
            at = forecast.at + (n + 1) * HOUR
            if at > now and way.devices and (stands.expected_at is None or at <= stands.expected_at + HOUR):
                added[at.replace(minute=0, second=0, microsecond=0)] += count * way.missing / way.devices
    found, total = [], 0.0
    for at in sorted(added):
        total = min(float(stands.on_the_way), total + added[at])
        if added[at] > 0:
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
