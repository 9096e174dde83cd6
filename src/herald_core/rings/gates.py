"""Gates between rings, and halting on evidence."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from scipy.special import betainc

from herald_core.deliveries import Phase

HALT_CERTAINTY = 0.9
MIN_FAILURES = 2
_PRIOR = 0.5  # Jeffreys: Beta(0.5, 0.5)
#: how much of a ring must have been tried before its gate says anything, unless the ring says how many
TRIED_SHARE = 0.5
_OUT_OF_PLAY = (Phase.WITHDRAWN, Phase.SUPERSEDED, Phase.EXPIRED)


@dataclass(frozen=True, kw_only=True)
class RingCounts:
    """How a ring stands, in devices. `size` counts all it was drawn with; `in_play` leaves out what was withdrawn,
    superseded or expired.

    `confirmed` leaves out those that were lost after confirming, and `failed` counts them.
    """

    size: int
    in_play: int
    confirmed: int
    failed: int

    @classmethod
    def of_phases(cls, phases: Mapping[str, int], *, lost: int = 0) -> "RingCounts":
        """From the number of devices in each phase, of which `lost` confirmed ones were lost since."""
        size = sum(phases.values())
        return cls(
            size=size,
            in_play=size - sum(phases.get(p, 0) for p in _OUT_OF_PLAY),
            confirmed=phases.get(Phase.CONFIRMED, 0) - lost,
            failed=phases.get(Phase.FAILED, 0) + lost,
        )

    def __add__(self, other: "RingCounts") -> "RingCounts":
        return RingCounts(**{k: v + getattr(other, k) for k, v in self.__dict__.items()})

    @property
    def tried(self) -> int:
        """Devices that carried the order out, whichever way it ended, or ran the version already."""
        return self.confirmed + self.failed

    @property
    def confirmed_share(self) -> float:
        """Confirmed of all devices in play (0 to 1). With none in play nothing is confirmed."""
        return self.confirmed / self.in_play if self.in_play else 0.0

    @property
    def failure_rate(self) -> float:
        """Failed of those tried (0 to 1)."""
        return self.failed / self.tried if self.tried else 0.0


@dataclass(frozen=True, kw_only=True)
class GateSpec:
    """What a ring needs before the next one opens. Shares and rates are 0 to 1.

    `max_unreached` bounds how many in play were neither confirmed nor failed; None asks nothing. What ended without
    being tried (withdrawn, expired, superseded) is no evidence, so a gate also asks how many were tried.
    """

    confirmed_share: float
    failure_limit: float
    soak: timedelta
    max_unreached: int | None = None
    needs_approval: bool = False
    #: at least so many must have been tried; None for half of the ring, and at least one
    min_tried: int | None = None

    def tried_needed(self, size: int) -> int:
        """How many devices of a ring of that size must have been tried."""
        return math.ceil(size * TRIED_SHARE) or 1 if self.min_tried is None else max(1, self.min_tried)


@dataclass(frozen=True, kw_only=True)
class Criterion:
    """One condition of a gate; `measured` and `needed` are in the condition's own unit."""

    name: str
    measured: float
    needed: float
    met: bool


@dataclass(frozen=True, kw_only=True)
class GateReading:
    """A gate as it stands. `share_reached_at` starts the soak, and is None while the share is not reached."""

    criteria: tuple[Criterion, ...]
    share_reached_at: datetime | None

    @property
    def met(self) -> bool:
        return all(c.met for c in self.criteria)


def read_gate(
    spec: GateSpec, counts: RingCounts, share_reached_at: datetime | None, now: datetime, *, approved: bool = False
) -> GateReading:
    """How the gate stands at `now`. A share that was reached and lost starts the soak anew.

    The share counts as reached only once enough devices were tried.
    """
    needed = spec.tried_needed(counts.size)
    tried_met = counts.tried >= needed
    share_met = tried_met and counts.confirmed_share >= spec.confirmed_share
    reached = (share_reached_at or now) if share_met else None
    soaked = now - reached if reached else timedelta(0)
    asked = [Criterion(name="tried", measured=counts.tried, needed=needed, met=tried_met)]
    if spec.max_unreached is not None:
        unheard = counts.in_play - counts.tried
        asked.append(
            Criterion(name="unheard", measured=unheard, needed=spec.max_unreached, met=unheard <= spec.max_unreached)
        )
    if spec.needs_approval:
        asked.append(Criterion(name="approval", measured=float(approved), needed=1.0, met=approved))
    return GateReading(
        criteria=(
            Criterion(
                name="confirmed",
                measured=counts.confirmed_share,
                needed=spec.confirmed_share,
                met=counts.confirmed_share >= spec.confirmed_share,
            ),
            Criterion(
                name="failures",
                measured=counts.failure_rate,
                needed=spec.failure_limit,
                met=counts.failure_rate <= spec.failure_limit,
            ),
            Criterion(
                name="soak",
                measured=soaked.total_seconds(),
                needed=spec.soak.total_seconds(),
                met=reached is not None and soaked >= spec.soak,
            ),
            *asked,
        ),
        share_reached_at=reached,
    )


def certainty_above(limit: float, *, failed: int, tried: int) -> float:
    """P(true failure rate > `limit`) after `failed` of `tried`, under a Beta(0.5, 0.5) prior.

    The complement of the regularised incomplete beta function (NIST DLMF 8.17).
    """
    return float(1.0 - betainc(_PRIOR + failed, _PRIOR + tried - failed, limit))


def halt_reason(counts: RingCounts, *, failure_limit: float, count_limit: int | None) -> str | None:
    """Why the rollout must stop itself, in words with the figures; None where it need not."""
    if count_limit is not None and counts.failed >= count_limit:
        return f"{counts.failed} failed, and {count_limit} was the limit"
    if counts.failed < MIN_FAILURES:
        return None
    certainty = certainty_above(failure_limit, failed=counts.failed, tried=counts.tried)
    if certainty < HALT_CERTAINTY:
        return None
    return (
        f"{counts.failed} of {counts.tried} tried failed; "
        f"{_certainty_words(certainty)} sure that the rate is above {failure_limit:.1%}".replace(".0%", "%")
    )


def _certainty_words(certainty: float) -> str:
    return "over 99.9%" if certainty > 0.999 else f"{certainty:.1%}"
