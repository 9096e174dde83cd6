"""Which firmware runs where: for each model and each site, how many devices run an approved version, and which do not.

A device is counted as it says it is now. Whoever is limited to a part of the fleet gets the figures of that part.
"""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property

from django.db.models import Count

from herald.fleet.models import Admission, Device, DeviceModel, Site
from herald.fleet.presence import heard_in_time
from herald.http.export import Table
from herald.images.models import Image
from herald_core.rules import And, Clause, Node, Not, Op, Or, to_text

NO_SITE = "No site"
#: a rule that tells more models apart than these is nothing to read
MOST_MODELS = 20


@dataclass(frozen=True, kw_only=True)
class Running:
    """So many admitted devices of a model at a site that run a version (None: they report none), and how many of those
    called on time."""

    site: str
    model: str
    version: str | None
    approved: bool
    newest: bool
    devices: int
    on_time: int


@dataclass(kw_only=True)
class PlaceRow:
    """A model or a site. `rule` finds its devices that run no approved version; empty where there are none, or where it
    would be too long to read. `target` is a model's newest approved version."""

    name: str
    target: str = ""
    devices: int = 0
    approved: int = 0
    newest: int = 0
    unknown: int = 0
    on_time: int = 0
    rule: str = ""
    others_of: set[str] = field(default_factory=set)


class FirmwareReport:
    """All of it, from one question to the database."""

    def __init__(self, now: datetime) -> None:
        self.at = now
        self._approved: dict[str, dict[str, str]] = defaultdict(dict)
        rows = Image.objects.approved().exclude(device_models=None).order_by()
        for model, key, version in rows.values_list("device_models__name", "version_key", "version"):
            self._approved[model][key] = version
        self._newest = {name: max(versions) for name, versions in self._approved.items()}
        self.rows = sorted(self._read(), key=lambda r: (r.site, r.model, r.version or ""))

    def _read(self) -> Iterable[Running]:
        models = dict(DeviceModel.objects.values_list("pk", "name"))
        sites = dict(Site.objects.values_list("pk", "name"))
        counted = Device.objects.filter(admission=Admission.ADMITTED).order_by()
        found = counted.values_list("site", "model", "firmware", "firmware_key").annotate(
            n=Count("pk"), on_time=Count("pk", filter=heard_in_time(self.at))
        )
        for site, model, version, key, n, on_time in found:
            name = models[model]
            yield Running(
                site=NO_SITE if site is None else sites[site],
                model=name,
                version=version or None,
                approved=key in self._approved.get(name, {}),
                newest=key is not None and key == self._newest.get(name),
                devices=n,
                on_time=on_time,
            )

    @cached_property
    def models(self) -> list[PlaceRow]:
        """A row for each model that some device is of, the one with most devices on no approved version first."""
        rows = self._summed({name: [r for r in self.rows if r.model == name] for name in {r.model for r in self.rows}})
        for row in rows:
            row.target = self._approved[row.name][self._newest[row.name]] if row.name in self._newest else ""
            row.rule = self._rule([], row)
        return rows

    @cached_property
    def sites(self) -> list[PlaceRow]:
        """A row for each site that has devices, and for those without one, in the same order."""
        by_site: dict[str, list[Running]] = defaultdict(list)
        for r in self.rows:
            by_site[r.site].append(r)
        rows = self._summed(by_site)
        for row in rows:
            at = Clause("site", Op.IS_MISSING) if row.name == NO_SITE else Clause("site", Op.EQ, (row.name,))
            row.rule = self._rule([at], row)
        return rows

    def _summed(self, by_name: Mapping[str, Sequence[Running]]) -> list[PlaceRow]:
        rows = []
        for name, parts in by_name.items():
            row = PlaceRow(name=name)
            for part in parts:
                row.devices += part.devices
                row.on_time += part.on_time
                row.approved += part.devices if part.approved else 0
                row.newest += part.devices if part.newest else 0
                row.unknown += part.devices if part.version is None else 0
                if not part.approved:
                    row.others_of.add(part.model)
            rows.append(row)
        return sorted(rows, key=lambda r: (r.approved - r.devices, r.name))

    def _rule(self, where: Sequence[Node], row: PlaceRow) -> str:
        if not 0 < len(row.others_of) <= MOST_MODELS:
            return ""
        kinds = [self._not_approved(model) for model in sorted(row.others_of)]
        which = kinds[0] if len(kinds) == 1 else Or(tuple(kinds))
        parts = (*where, *(which.operands if isinstance(which, And) else (which,)))
        return to_text(And((Clause("admission", Op.EQ, ("admitted",)), *parts)))

    def _not_approved(self, model: str) -> Node:
        """Devices of a model that run no version approved for it, or say of none that they run it."""
        of = Clause("model", Op.EQ, (model,))
        versions = tuple(sorted(self._approved.get(model, {}).values()))
        return And((of, Not(Clause("firmware", Op.ANY_OF, versions)))) if versions else of


def tables(report: FirmwareReport) -> list[Table]:
    """The report as sheets of a workbook; the last is what a spreadsheet counts by itself."""
    columns = ("devices", "on an approved version", "on the newest", "version not known", "on time")

    def numbers(row: PlaceRow) -> tuple[int, ...]:
        return row.devices, row.approved, row.newest, row.unknown, row.on_time

    return [
        Table(
            "models", ("model", "newest approved", *columns), [(r.name, r.target, *numbers(r)) for r in report.models]
        ),
        Table("sites", ("site", *columns), [(r.name, *numbers(r)) for r in report.sites]),
        by_version(report),
    ]


def by_version(report: FirmwareReport) -> Table:
    """One line for each version of each model at each site."""
    words = {True: "yes", False: "no"}
    return Table(
        "versions",
        ("site", "model", "version", "approved", "newest approved", "devices", "on time"),
        [
            (r.site, r.model, r.version or "", words[r.approved], words[r.newest], r.devices, r.on_time)
            for r in report.rows
        ],
    )
