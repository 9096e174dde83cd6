"""The rows of the calendar: time zones, sites or groups, and how many devices of something are in each."""

from collections import Counter, defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import Any

from django.db.models import Count, Q

from herald.agenda.counts import NONE, Counts
from herald.calendar.models import Freeze
from herald.commands.models import Schedule, ScheduleState
from herald.commands.tallies import TallyKind
from herald.fleet.models import Device, Site
from herald.groups.models import Group
from herald.rollouts.models import Rollout

#: more rows than these are no picture; the ones with most devices are shown
MOST_ROWS = 40
NO_SITE = "No site"
#: a row, and a time zone of devices in it
Cell = tuple[str, str]
Cells = Mapping[Cell, int]


class RowKind(StrEnum):
    """What the calendar has a row for each of."""

    ZONE = "zone"
    SITE = "site"
    GROUP = "group"


@dataclass(frozen=True, kw_only=True)
class Row:
    """A row: its devices, and the clock of most of them; `zones` counts the clocks they have."""

    key: str
    name: str
    zone: str
    zones: int
    devices: int


class Rows:
    """Rows of one kind, and how devices are counted into them. `known` is what was counted of them before, at
    `counted_at`; what was counted for other groups is forgotten."""

    def __init__(self, kind: RowKind, known: Counts | None = None, counted_at: datetime | None = None) -> None:
        self.kind = kind
        self._groups = _groups_in_use() if kind is RowKind.GROUP else {}
        if known is not None and known.groups != self.groups:
            known = counted_at = None
        self.known = known or NONE
        self.counted_at = counted_at
        self.devices = self._counted() if known is None else known.devices
        self.rows = self._rows(self.cells(self.devices))
        self.keys = {r.key for r in self.rows}

    @property
    def groups(self) -> list[int]:
        """The groups that are rows."""
        return sorted(self._groups)

    @property
    def tally_kind(self) -> TallyKind:
        """By what firings are counted for these rows."""
        return TallyKind.GROUP if self.kind is RowKind.GROUP else TallyKind.SITE

    def _counted(self) -> list[Sequence[Any]]:
        """The values of `fields`, and how many devices have them."""
        counted = Device.objects.filter(admission="admitted").filter(self.narrowed()).order_by()
        return list(counted.values_list(*self.fields()).annotate(n=Count("id")))

    @property
    def overlap(self) -> bool:
        """Whether a device may be in several rows."""
        return self.kind is RowKind.GROUP

    def fields(self, device: str = "") -> Sequence[str]:
        """The fields that say in which row a device is, and by which clock it lives; `device` leads to the device."""
        of_row = {RowKind.SITE: "site_id", RowKind.GROUP: "memberships__group_id"}.get(self.kind)
        return (f"{device}{of_row}", f"{device}time_zone") if of_row else (f"{device}time_zone",)

    def narrowed(self, device: str = "") -> Q:
        """Only the devices that are in some row."""
        return Q(**{f"{device}memberships__group__in": list(self._groups)}) if self.kind is RowKind.GROUP else Q()

    def cells(self, counted: Iterable[Sequence[Any]]) -> Counter[Cell]:
        """Devices by row and clock, from the values of `fields` with a number after them."""
        found: Counter[Cell] = Counter()
        for *where, n in counted:
            found[self.cell(where)] += n
        return found

    def cell(self, where: Sequence[Any]) -> Cell:
        return ("" if where[0] is None else str(where[0])), where[-1]

    def shown(self, cells: Cells) -> dict[Cell, int]:
        """Those that are in a row which is shown."""
        return {cell: n for cell, n in cells.items() if cell[0] in self.keys and n}

    def _rows(self, cells: Cells) -> list[Row]:
        clocks: dict[str, Counter[str]] = defaultdict(Counter)
        for (key, zone), n in cells.items():
            clocks[key][zone] += n
        names = self._names(clocks)
        rows = [
            Row(key=key, name=names[key], zone=of.most_common(1)[0][0], zones=len(of), devices=of.total())
            for key, of in clocks.items()
            if key in names
        ]
        return sorted(rows, key=lambda r: (-r.devices, r.name))[:MOST_ROWS]

    def _names(self, keys: Collection[str]) -> dict[str, str]:
        if self.kind is RowKind.ZONE:
            return {key: key for key in keys}
        if self.kind is RowKind.GROUP:
            return {str(pk): name for pk, name in self._groups.items()}
        return {"": NO_SITE, **{str(pk): name for pk, name in Site.objects.values_list("pk", "name")}}


class OnlyRow(Rows):
    """A single row: one device, the devices of a site, or those of a group."""

    def __init__(self, *, device: int | None = None, site: int | None = None, group: int | None = None) -> None:
        self._of = {"pk": device, "site": site, "memberships__group": group}
        super().__init__(RowKind.ZONE)

    def narrowed(self, device: str = "") -> Q:
        return Q(**{f"{device}{name}": value for name, value in self._of.items() if value is not None})


def _groups_in_use() -> dict[int, str]:
    """Groups that open rollouts, commands that fire, and freezes are for."""
    rollouts = Rollout.objects.filter(launched_at__isnull=False, ended_at=None)
    schedules = Schedule.objects.filter(state=ScheduleState.ACTIVE)
    used = Q(rollouts_for__in=rollouts) | Q(schedules_for__in=schedules) | Q(freezes__in=Freeze.objects.all())
    return dict(Group.objects.filter(used).distinct().values_list("pk", "name"))
