"""Groups whose members something else keeps. Rooms above say so at start-up: this room knows none of them."""

from collections.abc import Callable

from herald.groups.models import Group
from herald.http.errors import Conflict

#: gives what keeps a group's members, as it stands within a sentence; None where nothing does
Keeper = Callable[[Group], str | None]
_KEEPERS: list[Keeper] = []


def tells_keeper(keeper: Keeper) -> Keeper:
    """Let a room say whose members it keeps."""
    _KEEPERS.append(keeper)
    return keeper


def check_by_hand(group: Group) -> None:
    """Let the members of a group be changed by hand, unless something keeps them. Call it under the lock of membership.

    Raises:
        Conflict: something keeps them, and would undo it.
    """
    for keeper in _KEEPERS:
        if words := keeper(group):
            raise Conflict(f"“{group.name}” follows {words}. Change that list, or let the group follow it no longer.")
