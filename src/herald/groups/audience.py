"""An audience: devices in some groups and not in others."""

from collections.abc import Collection, Iterable
from typing import TYPE_CHECKING

from django.db.models import Exists, OuterRef

from herald.fleet.models import Device
from herald.groups.models import Group, GroupMembership
from herald_core.rules.printer import value_text

if TYPE_CHECKING:
    from herald.fleet.querysets import DeviceQuerySet


def members_of(include: Collection[Group], exclude: Collection[Group]) -> "DeviceQuerySet":
    """Devices in any of the included groups and none of the excluded ones. No group is nobody."""
    if not include:
        return Device.objects.none()
    inside = GroupMembership.objects.of_groups([g.pk for g in include]).values("device_id")
    devices = Device.objects.filter(pk__in=inside)
    if exclude:
        outside = GroupMembership.objects.filter(group__in=[g.pk for g in exclude], device_id=OuterRef("pk"))
        devices = devices.filter(~Exists(outside))
    return devices


def audience_rule(include: Iterable[Group], exclude: Iterable[Group]) -> str:
    """The text of the rule that finds the same devices; `include` is not empty."""

    def any_of(groups: Iterable[Group]) -> str:
        return f"group any of ({', '.join(value_text(g.name) for g in groups)})"

    without = list(exclude)
    return f"{any_of(include)} and not {any_of(without)}" if without else any_of(include)


def names_of(groups: Iterable[Group]) -> str:
    """Names of groups as a list in words; empty for no group."""
    words = [g.name for g in groups]
    return " and ".join([", ".join(words[:-1]), words[-1]] if len(words) > 1 else words)
