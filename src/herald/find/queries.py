"""Finding devices: by rule and words, in any order, as a grid of two fields, as rows of a table."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Any

from django.db.models import Count, F

from herald.fleet.models import Device
from herald.fleet.vocabulary import load_records
from herald.groups.models import GroupMembership
from herald.groups.rule_queries import matching
from herald.groups.rules import read_rule
from herald.groups.values import SETS, value_expression
from herald.http.errors import Invalid
from herald_core.rules import FieldSpec, FieldType, Vocabulary
from herald_core.versions import version_key_or_none

if TYPE_CHECKING:
    from herald.fleet.querysets import DeviceQuerySet

GRID_SIDE = 12
CHUNK = 2000
#: What the columns of the list are ordered by.
_ORDERS = {
    "name": "name",
    "model": "model__name",
    "firmware": "firmware_key",
    "site": "site__name",
    "last_check_in": "last_check_in",
    "uid": "uid",
    "serial": "serial",
    "custodian": "custodian__name",
}


def found(rule: str, words: str, vocabulary: Vocabulary, now: datetime) -> "DeviceQuerySet":
    """The devices that a rule matches (all, where there is none) and the words are found in.

    Raises:
        InvalidRule: the rule cannot be understood.
    """
    devices = matching(read_rule(rule, vocabulary), vocabulary, now) if rule.strip() else Device.objects.all()
    return devices.search(words) if words else devices


def in_order(devices: "DeviceQuerySet", order: str, vocabulary: Vocabulary, now: datetime) -> "DeviceQuerySet":
    """The devices ordered by a field, `-` before it for the reverse; those without a value come last.

    Raises:
        Invalid: there is no such field to order by.
    """
    key, spec = order.removeprefix("-"), vocabulary.get(order.removeprefix("-"))
    if key in _ORDERS:
        expression: Any = F(_ORDERS[key])
    elif spec is not None and spec.key not in SETS and (value := value_expression(spec, now)) is not None:
        devices, expression = devices.alias(ordered_by=value), F("ordered_by")
    else:
        raise Invalid("/order", f"Devices cannot be ordered by {key[:40]}.")
    ordered = expression.desc(nulls_last=True) if order.startswith("-") else expression.asc(nulls_last=True)
    return devices.order_by(ordered, "name")


@dataclass(frozen=True, kw_only=True)
class Grid:
    """How many devices have each pair of values.

    `rows` and `columns` are the commonest values of each side. Where there are rarer ones, `cells` has one more row, or
    column, for all of them together. `totals` are the devices of each row of cells, whichever columns they are in;
    `without` those of them that have no value for the columns, and `no_row` devices that have none for the rows. What
    cannot be said is None, as a device may have several values of a set.
    """

    rows: list[str]
    columns: list[str]
    cells: list[list[int]]
    totals: list[int | None]
    without: list[int] | None
    no_row: int | None


def grid_of(devices: "DeviceQuerySet", row: FieldSpec, column: FieldSpec, *, now: datetime) -> Grid:
    """The commonest values of two fields against each other.

    Raises:
        Invalid: the two cannot be laid against each other.
    """
    across, down = value_expression(column, now), value_expression(row, now)
    if across is None or down is None:
        raise Invalid("/row", "Times have too many values for a grid.")
    if row.key == column.key or {row.key, column.key} <= SETS:
        raise Invalid("/column", "Two different fields make a grid, at most one of them a set such as tag.")
    pairs: Counter[tuple[str, str]] = Counter()
    for r, c, n in devices.order_by().annotate(r=down, c=across).values_list("r", "c").annotate(n=Count("id")):
        pairs[_shown(r), _shown(c)] += n
    by_row: Counter[str] = Counter()
    for r, n in devices.order_by().annotate(r=down).values_list("r").annotate(n=Count("id")):
        by_row[_shown(r)] += n
    no_row = by_row.pop("", 0)
    by_column: Counter[str] = Counter()
    for (r, c), n in pairs.items():
        by_column[c] += n if r else 0
    by_column.pop("", None)
    rows, columns = _commonest(by_row, row), _commonest(by_column, column)
    down_to, across_to = _places(by_row, rows), _places(by_column, columns)
    cells = [[0] * (max(across_to.values(), default=-1) + 1) for _ in range(max(down_to.values(), default=-1) + 1)]
    without = [0] * len(cells)
    for (r, c), n in pairs.items():
        if r and c:
            cells[down_to[r]][across_to[c]] += n
        elif r:
            without[down_to[r]] += n
    totals: list[int | None] = [0] * len(cells)
    for r, n in by_row.items():
        totals[down_to[r]] = (totals[down_to[r]] or 0) + n
    if len(cells) > len(rows) and row.key in SETS:
        totals[-1] = None
    return Grid(
        rows=rows,
        columns=columns,
        cells=cells,
        totals=totals,
        without=None if column.key in SETS else without,
        no_row=None if row.key in SETS else no_row,
    )


def _shown(value: object) -> str:
    """A value as it is shown; empty for none."""
    return "" if value is None else str(value)


def _places(totals: Mapping[str, int], chosen: Sequence[str]) -> dict[str, int]:
    """Where each value is counted: those chosen in their order, all others in one place after them."""
    places = {value: place for place, value in enumerate(chosen)}
    return {value: places.get(value, len(chosen)) for value in totals}


def _commonest(totals: Mapping[str, int], spec: FieldSpec) -> list[str]:
    """The commonest values of a side, in their own order."""
    chosen = sorted(totals, key=lambda v: -totals[v])[:GRID_SIDE]
    if spec.type is FieldType.VERSION:
        return sorted(chosen, key=lambda v: version_key_or_none(v) or "")
    return sorted(chosen)


def table_rows(
    devices: "DeviceQuerySet", columns: Sequence[str], vocabulary: Vocabulary, now: datetime
) -> Iterator[list[Any]]:
    """Devices as rows of the named fields, in the order of the query; sets as words between semicolons."""
    ids = list(devices.values_list("pk", flat=True))
    for start in range(0, len(ids), CHUNK):
        chunk = ids[start : start + CHUNK]
        records = load_records(chunk, vocabulary, now)
        groups: dict[int, list[str]] = {}
        if "group" in columns:
            rows = GroupMembership.objects.of_devices(chunk).values_list("device_id", "group__name")
            for pk, name in rows.order_by("group__name"):
                groups.setdefault(pk, []).append(name)
        for pk in chunk:
            record = {**records[pk], "group": groups.get(pk, [])}
            yield [_cell(record.get(key)) for key in columns]


def _cell(value: Any) -> Any:
    match value:
        case None:
            return ""
        case frozenset():
            return ";".join(sorted(value))
        case list():
            return ";".join(value)
        case bool():
            return "yes" if value else "no"
        case datetime():
            return value.isoformat(timespec="seconds")
    return value
