"""How long fetches and installs took, read off what devices reported."""

from collections.abc import Sequence
from dataclasses import dataclass

from herald.deliveries.models import DeliveryEvent
from herald_core.deliveries import Phase

MOST = 2000
_ENDS = {Phase.FETCHING.value: Phase.STAGED.value, Phase.INSTALLING.value: Phase.CONFIRMING.value}


@dataclass(frozen=True, kw_only=True)
class Spans:
    """Seconds that the latest fetches and installs took, one for each that ended."""

    fetches: Sequence[float]
    installs: Sequence[float]


def seen_spans(rollout_id: int, *, most: int = MOST) -> Spans:
    """The latest fetches and installs of a rollout, at most so many of each."""
    found: dict[str, list[float]] = {}
    for begin, end in _ENDS.items():
        begun: dict[tuple[int, int], float] = {}
        ended: dict[tuple[int, int], float] = {}
        rows = DeliveryEvent.objects.of_phases(rollout_id, (begin, end))[: 2 * most]
        for delivery, attempt, phase, at in rows:
            (begun if phase == begin else ended)[delivery, attempt] = at.timestamp()
        found[begin] = [at - begun[key] for key, at in ended.items() if key in begun]
    return Spans(fetches=found[Phase.FETCHING.value], installs=found[Phase.INSTALLING.value])
