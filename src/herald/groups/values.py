"""Values that exist in the fleet, with how many devices have each."""

from collections.abc import Callable, Mapping
from datetime import datetime
from typing import Any

from django.db.models import Count, F, Func, TextField, Value

from herald.fleet.models import Custodian, Device
from herald.fleet.presence import presence_expression
from herald.groups.models import Group
from herald.lookups import JsonText
from herald_core.rules import FieldSpec
from herald_core.text import fold


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


def value_counts(spec: FieldSpec, *, now: datetime, beginning: str = "", most: int = 30) -> Counts:
    """The commonest values of a field that hold `beginning` (ignoring case), most frequent first."""
    counts = _SPECIAL[spec.key](now) if spec.key in _SPECIAL else _plain(spec)
    wanted = fold(beginning)
    return [(v, n) for v, n in counts if wanted in fold(v)][:most]


def _plain(spec: FieldSpec) -> Counts:
    if spec.source == "device":
        path = _COLUMNS.get(spec.key)
        if path is None:
            return []  # times: there is nothing to choose from
        return _ranked(Device.objects.order_by().values_list(path).annotate(n=Count("id")))
    column = "attributes" if spec.source == "attribute" else "facts"
    rows = Device.objects.order_by().annotate(v=JsonText(F(column), Value(spec.key)))
    return _ranked(rows.values_list("v").annotate(n=Count("id")))


def _tags(now: datetime) -> Counts:
    return _ranked(Device.objects.order_by().annotate(v=_Unnest("tags")).values_list("v").annotate(n=Count("id")))


def _custodian_tags(now: datetime) -> Counts:
    counts: dict[str, int] = {}
    for tags, devices in Custodian.objects.annotate(n=Count("device")).values_list("tags", "n"):
        for tag in tags:
            counts[tag] = counts.get(tag, 0) + devices
    return _ranked(counts.items())


def _groups(now: datetime) -> Counts:
    return _ranked(Group.objects.with_counts().values_list("name", "member_count"))


def _presences(now: datetime) -> Counts:
    return _ranked(
        Device.objects.order_by().annotate(v=presence_expression(now)).values_list("v").annotate(n=Count("id"))
    )


_SPECIAL: Mapping[str, Callable[[datetime], Counts]] = {
    "tag": _tags,
    "custodian_tag": _custodian_tags,
    "group": _groups,
    "presence": _presences,
}


def _ranked(rows: Any) -> Counts:
    return sorted(((str(v), int(n)) for v, n in rows if v not in (None, "")), key=lambda r: (-r[1], r[0]))
