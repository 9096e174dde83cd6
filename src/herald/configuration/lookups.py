"""What documents name, looked up; what is not there is told with its place."""

from dataclasses import dataclass
from datetime import datetime
from typing import TypeVar

from herald.fleet.models import DeviceModel, Site
from herald.groups.models import Group
from herald.http.errors import Invalid
from herald.people.models import User

T = TypeVar("T", Group, DeviceModel, Site)
_WORDS = {Group: "group", DeviceModel: "model", Site: "site"}


@dataclass(frozen=True)
class Hand:
    """Who writes, and when."""

    actor: User | None
    now: datetime


def named(table: type[T], name: str, pointer: str) -> T:
    """The group, model or site of a name.

    Raises:
        Invalid: there is none; with the place where it is named.
    """
    found: T | None = table._default_manager.filter(name=name).first()
    if found is None:
        raise Invalid(pointer, f"There is no {_WORDS[table]} “{name}”.")
    return found
