"""What a rollout tells by the changes of its deliveries: how far it was when, which attempts failed, how long it took.

Of rollouts of long ago it is what was kept of this as the changes were deleted.
"""

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any

import numpy as np

from herald.deliveries.durations import seen_spans
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.rollouts.models import KeptSteps, Rollout

#: so much of those that were confirmed; the moments that a report names
MILESTONES = (0.5, 0.9, 1.0)
PROGRESS_POINTS = 200


@dataclass(frozen=True, kw_only=True)
class Lengths:
    """Seconds that something took, over `count` times; the numbers are 0 where there was none."""

    count: int
    median: float
    nine_of_ten: float
    longest: float


@dataclass(frozen=True, kw_only=True)
class Steps:
    """`progress` are points of time and number confirmed; `milestones` are a share, the devices that make it, the
    moment and the seconds since the launch; `failures` are causes and attempts, the most frequent first."""

    progress: Sequence[Mapping[str, Any]]
    milestones: Sequence[Mapping[str, Any]]
    failures: Sequence[Mapping[str, Any]]
    fetches: Lengths
    installs: Lengths
    #: of rings, by id: when the first and the last of their devices was confirmed by an install
    rings: Mapping[int, tuple[datetime, datetime]]

    def kept(self) -> dict[str, Any]:
        """As it is kept when the changes are deleted."""
        return {
            **asdict(self),
            "progress": [{**p, "at": p["at"].isoformat()} for p in self.progress],
            "milestones": [{**m, "at": m["at"] and m["at"].isoformat()} for m in self.milestones],
            "rings": {ring: [a.isoformat(), b.isoformat()] for ring, (a, b) in self.rings.items()},
        }


def steps_of(rollout: Rollout) -> Steps:
    """What a rollout tells by its changes, all or none of which are there."""
    kept = KeptSteps.objects.filter(rollout=rollout).first()
    return _read(kept.told) if kept else counted_steps(rollout)


def counted_steps(rollout: Rollout) -> Steps:
    """The same, counted from the changes themselves."""
    times = list(DeliveryEvent.objects.confirmed_times(rollout.pk))
    spans = seen_spans(rollout.pk)
    return Steps(
        progress=_progress(rollout, times),
        milestones=milestones(rollout, times),
        failures=[{"cause": c, "attempts": n} for c, n in DeliveryEvent.objects.failures(rollout.pk)],
        fetches=lengths(spans.fetches),
        installs=lengths(spans.installs),
        rings={ring: (first, last) for ring, first, last in Delivery.objects.first_and_last(rollout.pk)},
    )


def progress(rollout: Rollout) -> Sequence[Mapping[str, Any]]:
    """How many were confirmed over time, in at most 200 points."""
    kept = KeptSteps.objects.filter(rollout=rollout).first()
    if kept is not None:
        return _read(kept.told).progress
    return _progress(rollout, list(DeliveryEvent.objects.confirmed_times(rollout.pk)))


def milestones(rollout: Rollout, times: Sequence[datetime]) -> list[dict[str, Any]]:
    """When half, nine tenths and all of those that were confirmed by an install were, and how long after the launch."""
    if rollout.launched_at is None:
        return []
    found = []
    for share in MILESTONES:
        count = int(np.ceil(share * len(times)))
        at = times[count - 1] if count else None
        seconds = (at - rollout.launched_at).total_seconds() if at else None
        found.append({"share": share, "devices": count, "at": at, "seconds": seconds})
    return found


def lengths(seconds: Sequence[float]) -> Lengths:
    """Median, ninth decile and maximum."""
    if not seconds:
        return Lengths(count=0, median=0.0, nine_of_ten=0.0, longest=0.0)
    median, nine, longest = (float(q) for q in np.quantile(np.asarray(seconds), (0.5, 0.9, 1.0)))
    return Lengths(count=len(seconds), median=median, nine_of_ten=nine, longest=longest)


def _progress(rollout: Rollout, times: Sequence[datetime]) -> list[dict[str, Any]]:
    if rollout.launched_at is None:
        return []
    # these ran it before; nothing was done to them
    before = Delivery.objects.of_rollout(rollout.pk).filter(phase="confirmed", hop=1, events__isnull=True).count()
    points = [{"at": rollout.launched_at, "confirmed": before}]
    step = max(1, len(times) // PROGRESS_POINTS)
    for index in range(0, len(times), step):
        points.append({"at": times[index], "confirmed": before + index + 1})
    if times:
        points.append({"at": times[-1], "confirmed": before + len(times)})
    return points


def _read(told: Mapping[str, Any]) -> Steps:
    return Steps(
        progress=[{**p, "at": datetime.fromisoformat(p["at"])} for p in told["progress"]],
        milestones=[{**m, "at": m["at"] and datetime.fromisoformat(m["at"])} for m in told["milestones"]],
        failures=told["failures"],
        fetches=Lengths(**told["fetches"]),
        installs=Lengths(**told["installs"]),
        rings={
            int(ring): (datetime.fromisoformat(first), datetime.fromisoformat(last))
            for ring, (first, last) in told["rings"].items()
        },
    )
