"""Devices that several rollouts want: when those that go first are expected to be done with them."""

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from math import inf

from herald.deliveries.models import Delivery
from herald.rollouts.models import Rollout, RolloutState, StoredForecast


@dataclass(frozen=True, kw_only=True)
class OthersFirst:
    """Of some devices, in how many seconds the rollouts that go first are done with each: infinity where that is not in
    sight, as nobody knows when they go on. `rollouts` counts the devices that each of these goes first with."""

    free_in: Mapping[int, float] = field(default_factory=dict)
    rollouts: Mapping[int, int] = field(default_factory=Counter)


def others_first(rollout: Rollout, targets: Mapping[int, str], *, now: datetime) -> OthersFirst:
    """The open rollouts that go first with some devices of a rollout, of which `targets` has the version that each is
    to get, as its key. They are of a higher rank; who is launched last goes last, but replaces what brings an older
    version. One that runs without a forecast yet is taken to be done."""
    if not targets or rollout.rolls_back_id is not None:
        return OthersFirst()
    wanted = Delivery.objects.open_in_others(rollout.pk).filter(device_id__any=list(targets))
    if rollout.launched_at is not None:
        wanted = wanted.filter(rollout__rank__lt=rollout.rank)
    found = wanted.values_list("device_id", "rollout_id", "ring__position", "target__version_key")
    rows = [(device, pk, place) for device, pk, place, key in found if key >= targets[device]]
    counts = Counter(pk for _, pk, _ in rows)
    running = set(Rollout.objects.filter(pk__in=list(counts), state=RolloutState.RUNNING).values_list("pk", flat=True))
    told = StoredForecast.objects.in_bulk(running)
    free_in: dict[int, float] = {}
    for device, pk, place in rows:
        until = _through(told.get(pk), place, now) if pk in running else inf
        free_in[device] = max(free_in.get(device, 0.0), until)
    return OthersFirst(free_in=free_in, rollouts=counts)


def _through(told: StoredForecast | None, place: int, now: datetime) -> float:
    """In how many seconds a ring is expected to be through."""
    ring = next((r for r in told.rings if r["position"] == place), None) if told else None
    if ring is None:
        return 0.0
    at = ring["through"]["median"]
    return max(0.0, (datetime.fromisoformat(at) - now).total_seconds()) if at else inf
