"""Which firmware runs where: for each model and each site, how many devices run an approved version, and which do not.

A device is counted as it says it is now. Whoever is limited to a part of the fleet gets the figures of that part.
"""

from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property

from django.db.models import Count

from herald.agenda.rows import NO_SITE
from herald.fleet.models import Admission, Device, DeviceModel, Site
from herald.fleet.presence import heard_in_time
from herald.http.export import Table
from herald.samples.services import approved_versions, newest_of
from herald_core.rules import And, Clause, Node, Not, Op, Or, to_text

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


@dataclass(frozen=True, kw_only=True)
class PlaceRow:
    """A model or a site. `rule` finds its devices that run no approved version; empty where there are none, or where it
    would be too long to read. `target` is a model's newest approved version."""

    name: str
    devices: int
    approved: int
    newest: int
    unknown: int
    on_time: int
    target: str = ""
    rule: str = ""


class FirmwareReport:
    """All of it, from one question to the database."""

    def __init__(self, now: datetime) -> None:
        self.at = now
        models = dict(DeviceModel.objects.values_list("pk", "name"))
        approved = approved_versions()
        newest = newest_of(approved)
        self._targets = {models[model]: approved[model, key] for model, key in newest.items()}
        self._versions: dict[str, list[str]] = defaultdict(list)
        for (model, _), version in approved.items():
            self._versions[models[model]].append(version)
        sites = dict(Site.objects.values_list("pk", "name"))
        counted = Device.objects.filter(admission=Admission.ADMITTED).order_by()
        found = counted.values_list("site", "model", "firmware", "firmware_key").annotate(
            n=Count("pk"), on_time=Count("pk", filter=heard_in_time(now))
        )
        rows = [
            Running(
                site=NO_SITE if site is None else sites[site],
                model=models[model],
                version=version or None,
                approved=(model, key) in approved,
                newest=key is not None and key == newest.get(model),
                devices=n,
                on_time=on_time,
            )
            for site, model, version, key, n, on_time in found
        ]
        self.rows = sorted(rows, key=lambda r: (r.site, r.model, r.version or ""))

    @cached_property
    def models(self) -> list[PlaceRow]:
        """A row for each model that some device is of, the one with most devices on no approved version first."""
        found = _by(self.rows, lambda r: r.model).items()
        return _worst_first(self._row(name, parts, target=self._targets.get(name, "")) for name, parts in found)

    @cached_property
    def sites(self) -> list[PlaceRow]:
        """A row for each site that has devices, and for those without one, in the same order."""
        found = _by(self.rows, lambda r: r.site).items()
        return _worst_first(self._row(name, parts, where=[_at(name)]) for name, parts in found)

    def _row(self, name: str, parts: Sequence[Running], *, target: str = "", where: Sequence[Node] = ()) -> PlaceRow:
        others = sorted({p.model for p in parts if not p.approved})
        return PlaceRow(
            name=name,
            target=target,
            devices=sum(p.devices for p in parts),
            approved=sum(p.devices for p in parts if p.approved),
            newest=sum(p.devices for p in parts if p.newest),
            unknown=sum(p.devices for p in parts if p.version is None),
            on_time=sum(p.on_time for p in parts),
            rule=self._rule(where, others) if 0 < len(others) <= MOST_MODELS else "",
        )

    def _rule(self, where: Sequence[Node], models: Sequence[str]) -> str:
        kinds = [self._not_approved(model) for model in models]
        which = kinds[0] if len(kinds) == 1 else Or(tuple(kinds))
        parts = (*where, *(which.operands if isinstance(which, And) else (which,)))
        return to_text(And((Clause("admission", Op.EQ, ("admitted",)), *parts)))

    def _not_approved(self, model: str) -> Node:
        """Devices of a model that run no version approved for it, or say of none that they run it."""
        of = Clause("model", Op.EQ, (model,))
        versions = tuple(sorted(self._versions.get(model, ())))
        return And((of, Not(Clause("firmware", Op.ANY_OF, versions)))) if versions else of


def _by(rows: Iterable[Running], name: Callable[[Running], str]) -> Mapping[str, Sequence[Running]]:
    found: dict[str, list[Running]] = defaultdict(list)
    for row in rows:
        found[name(row)].append(row)
    return found


def _worst_first(rows: Iterable[PlaceRow]) -> list[PlaceRow]:
    return sorted(rows, key=lambda r: (r.approved - r.devices, r.name))


def _at(site: str) -> Node:
    return Clause("site", Op.IS_MISSING) if site == NO_SITE else Clause("site", Op.EQ, (site,))


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
