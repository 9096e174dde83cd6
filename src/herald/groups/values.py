"""Values that exist in the fleet, with how many devices have each."""

from collections.abc import Callable, Mapping
from datetime import datetime
from typing import TYPE_CHECKING, Any

from django.db.models import Count, F, Func, TextField, Value

from herald.db.expressions import JsonText
from herald.fleet.models import Device
from herald.fleet.presence import presence_expression
from herald.groups.models import Group
from herald_core.rules import FieldSpec
from herald_core.text import fold

if TYPE_CHECKING:
    from herald.fleet.querysets import DeviceQuerySet


class _Unnest(Func):
    function = "unnest"
    output_field = TextField()


_COLUMNS = {
    "uid": "uid",
    "name": "name",
    "serial": "serial",
    "model": "model__name",
    "family": "model__family",
    "hardware": "hardware_revision",
    "firmware": "firmware",
    "site": "site__name",
    "region": "site__region",
    "time_zone": "time_zone",
    "custodian": "custodian__name",
    "admission": "admission",
}
Counts = list[tuple[str, int]]


SETS = frozenset({"tag", "custodian_tag", "group"})


def value_expression(spec: FieldSpec, now: datetime) -> Any:
    """A field of devices as text in the database; None for times, among which there is nothing to choose.

    A device that has several values (a tag, a group) becomes a row for each.
    """
    if spec.source != "device":
        return JsonText(F("attributes" if spec.source == "attribute" else "facts"), Value(spec.key))
    if spec.key in _SPECIAL:
        return _SPECIAL[spec.key](now)
    return F(_COLUMNS[spec.key]) if spec.key in _COLUMNS else None


def value_counts(
    spec: FieldSpec,
    *,
    now: datetime,
    devices: "DeviceQuerySet | None" = None,
    beginning: str = "",
    most: int = 30,
) -> Counts:
    """The commonest values of a field that hold `beginning` (ignoring case), most frequent first.

    Among the given devices, or the fleet; of the fleet's groups also those without devices.
    """
    expression = value_expression(spec, now)
    if expression is None:
        return []
    if spec.key == "group" and devices is None:
        counted: Any = Group.objects.with_counts()
        rows: Any = counted.values_list("name", "member_count")
    else:
        among = Device.objects.all() if devices is None else devices
        rows = among.order_by().annotate(v=expression).values_list("v").annotate(n=Count("id"))
    wanted = fold(beginning)
    return [(v, n) for v, n in _ranked(rows) if wanted in fold(v)][:most]


_SPECIAL: Mapping[str, Callable[[datetime], Any]] = {
    "tag": lambda now: _Unnest("tags"),
    "custodian_tag": lambda now: _Unnest("custodian__tags"),
    "group": lambda now: F("memberships__group__name"),
    "presence": presence_expression,
}


def _ranked(rows: Any) -> Counts:
    return sorted(((str(v), int(n)) for v, n in rows if v not in (None, "")), key=lambda r: (-r[1], r[0]))
