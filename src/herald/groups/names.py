"""What groups and devices are called, for items that are about one of them."""

from collections.abc import Collection, Mapping

from herald.attention.models import Part
from herald.attention.names import tells_names
from herald.fleet.models import Device
from herald.groups.models import Group


@tells_names(Part.GROUP)
def names_of_groups(ids: Collection[int]) -> Mapping[int, str]:
    """Names of groups by id."""
    return dict(Group.objects.filter(id__any=list(ids)).values_list("pk", "name"))


@tells_names(Part.DEVICE)
def names_of_devices(ids: Collection[int]) -> Mapping[int, str]:
    """Names of devices by id."""
    return dict(Device.objects.by_ids(list(ids)).values_list("pk", "name"))
