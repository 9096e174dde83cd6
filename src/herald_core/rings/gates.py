"""Gates between rings, and halting on evidence."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from scipy.special import betainc

HALT_CERTAINTY = 0.9
MIN_FAILURES = 2
_PRIOR = 0.5  # Jeffreys: Beta(0.5, 0.5)


@dataclass(frozen=True, kw_only=True)
class RingCounts:
    """How a ring stands. `in_play` leaves out what was withdrawn, superseded or expired."""

    in_play: int
    confirmed: int
    failed: int

    @property
    def tried(self) -> int:
        return self.confirmed + self.failed

    @property
    def confirmed_share(self) -> float:
        """Confirmed of all devices in play (0 to 1); a ring with none counts as done."""
        return self.confirmed / self.in_play if self.in_play else 1.0

    @property
    def failure_rate(self) -> float:
        """Failed of those tried (0 to 1)."""
        return self.failed / self.tried if self.tried else 0.0


@dataclass(frozen=True, kw_only=True)
class GateSpec:
    """What a ring needs before the next one opens. Shares and rates are 0 to 1.

    `most_unheard` bounds how many in play were neither confirmed nor failed; None asks nothing.
    """

    confirmed_share: float
    failure_limit: float
    soak: timedelta
    most_unheard: int | None = None
    needs_approval: bool = False


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
    """How the gate stands at `now`. A share that was reached and lost starts the soak anew."""
    share_met = counts.confirmed_share >= spec.confirmed_share
    reached = (share_reached_at or now) if share_met else None
    soaked = now - reached if reached else timedelta(0)
    asked: list[Criterion] = []
    if spec.most_unheard is not None:
        unheard = counts.in_play - counts.tried
        asked.append(
            Criterion(name="unheard", measured=unheard, needed=spec.most_unheard, met=unheard <= spec.most_unheard)
        )
    if spec.needs_approval:
        asked.append(Criterion(name="approval", measured=float(approved), needed=1.0, met=approved))
    return GateReading(
        criteria=(
            Criterion(name="confirmed", measured=counts.confirmed_share, needed=spec.confirmed_share, met=share_met),
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
