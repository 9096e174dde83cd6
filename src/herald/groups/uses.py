"""What uses a group. Rooms above this one say so at start-up: this room knows none of them."""

from collections.abc import Callable
from dataclasses import dataclass

from herald.groups.membership import referrers_in_order
from herald.groups.models import Group


@dataclass(frozen=True, kw_only=True)
class Use:
    """Something that uses a group."""

    kind: str
    id: int
    sentence: str
    #: whether it runs and takes the group's members as they are at each time, so that who joins is reached
    follows: bool = False


Finder = Callable[[int], list[Use]]
_FINDERS: list[Finder] = []


def tells_uses(finder: Finder) -> Finder:
    """Let a room say which of its things use the group with a given id."""
    _FINDERS.append(finder)
    return finder


def uses_of(group: Group) -> list[Use]:
    """What uses the group: open rollouts, schedules, and rules of other groups."""
    uses = [use for finder in _FINDERS for use in finder(group.pk)]
    return [
        *uses,
        *(Use(kind="group", id=g.pk, sentence=f"The rule of “{g.name}”") for g in referrers_in_order([group.pk])),
    ]


def following_uses(group: Group) -> list[Use]:
    """What runs and would reach whoever joins, also by way of other groups' rules."""
    ids = [group.pk, *(g.pk for g in referrers_in_order([group.pk]))]
    found = {(u.kind, u.id): u for pk in ids for finder in _FINDERS for u in finder(pk) if u.follows}
    return list(found.values())
