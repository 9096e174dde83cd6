"""How many devices of each rollout, command and firing are in each row: counted at this moment, or as they were counted
over the whole fleet a little while ago."""

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Self

import msgspec

from herald.commands.models import Schedule
from herald.commands.reach import Counting, reach_by
from herald.commands.tallies import TallyRow
from herald.deliveries.models import Delivery
from herald.rollouts.models import Rollout

#: phase, whether they wait for a file, site, the values of the rows' fields, and how many devices
RingCount = Sequence[Any]


class Counts(msgspec.Struct, frozen=True, kw_only=True):
    """What was counted for one kind of rows. Each list ends with how many devices; before that stand the values of the
    rows' fields, and in `rings` what `RingCount` says. What is missing here was not counted."""

    groups: list[int] = []
    #: how many devices of the whole fleet were heard from lately
    heard: int | None = None
    #: sites, and how many devices wait for a file there
    files: list[tuple[int, int]] | None = None
    devices: list[list[Any]] = []
    rings: dict[int, list[list[Any]]] = {}
    #: rollouts that were over when they were counted
    over: list[int] = []
    #: by `key_of` of a schedule
    audiences: dict[str, list[list[Any]]] = {}
    #: firings that were not over
    firings: dict[int, list[TallyRow]] = {}

    @classmethod
    def read(cls, data: bytes) -> Self:
        """From what `written` gives."""
        return msgspec.json.decode(data, type=cls)

    def written(self) -> bytes:
        return msgspec.json.encode(self)

    def by_zone(self) -> Self:
        """What was counted by site and time zone, as it is by time zone."""
        return msgspec.structs.replace(
            self,
            devices=_without_site(self.devices),
            rings={ring: [[*kinds, zone, n] for *kinds, _, zone, n in of] for ring, of in self.rings.items()},
            audiences={key: _without_site(of) for key, of in self.audiences.items()},
        )


def _without_site(counted: Iterable[Sequence[Any]]) -> list[list[Any]]:
    zones: Counter[str] = Counter()
    for _, zone, n in counted:
        zones[zone] += n
    return [[zone, n] for zone, n in zones.items()]


#: nothing was counted
NONE = Counts()


def key_of(schedule: Schedule) -> str:
    """A schedule as it is now: one that was changed may be for others."""
    return f"{schedule.pk}.{schedule.revision}"


def ring_counts(rollouts: Iterable[Rollout], by: Counting, known: Counts = NONE) -> dict[int, Sequence[RingCount]]:
    """The devices of each ring of some rollouts. A rollout of which some ring is not known is counted now."""
    rings = {r.pk: [ring.pk for ring in r.rings.all()] for r in rollouts}
    anew = [pk for pk, of in rings.items() if not known.rings.keys() >= set(of)]
    found: dict[int, Sequence[RingCount]] = {ring: known.rings.get(ring, ()) for of in rings.values() for ring in of}
    now: dict[int, list[RingCount]] = {ring: [] for pk in anew for ring in rings[pk]}
    for ring, *counted in Delivery.objects.counts_by_cell(anew, by.fields("device__"), by.narrowed("device__")):
        now.setdefault(ring, []).append(counted)
    return {**found, **now}


def audience_counts(
    schedules: Sequence[Schedule], by: Counting, known: Counts = NONE
) -> dict[int, Counter[tuple[Any, ...]]]:
    """Whom commands are for, by their ids. One that is not known as it is now is counted now."""
    found = {
        s.pk: Counter({tuple(where): n for *where, n in known.audiences[key_of(s)]})
        for s in schedules
        if key_of(s) in known.audiences
    }
    anew = [s for s in schedules if s.pk not in found]
    return {**found, **(reach_by(anew, by) if anew else {})}


def audiences_of(counted: Mapping[int, Counter[tuple[Any, ...]]], schedules: Iterable[Schedule]) -> dict[str, Any]:
    """The same, as it is kept."""
    return {key_of(s): [[*where, n] for where, n in counted[s.pk].items()] for s in schedules}
