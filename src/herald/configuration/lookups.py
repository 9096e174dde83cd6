"""What documents name, looked up; what is not there is told with its place."""

from dataclasses import dataclass
from datetime import datetime

from herald.fleet.models import DeviceModel, Site
from herald.groups.models import Group
from herald.http.errors import Invalid
from herald.people.models import User


@dataclass(frozen=True)
class Hand:
    """Who writes, and when."""

    actor: User | None
    now: datetime


def group_named(name: str, pointer: str) -> Group:
    """The group of a name.

    Raises:
        Invalid: there is none.
    """
    found = Group.objects.filter(name=name).first()
    if found is None:
        raise Invalid(pointer, f"There is no group “{name}”.")
    return found


def model_named(name: str, pointer: str) -> DeviceModel:
    """The model of a name.

    Raises:
        Invalid: there is none.
    """
    found = DeviceModel.objects.filter(name=name).first()
    if found is None:
        raise Invalid(pointer, f"There is no model “{name}”.")
    return found


def site_named(name: str, pointer: str) -> Site:
    """The site of a name.

    Raises:
        Invalid: there is none.
    """
    found = Site.objects.filter(name=name).first()
    if found is None:
        raise Invalid(pointer, f"There is no site “{name}”.")
    return found
