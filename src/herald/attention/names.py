"""What people call the objects that items are about. Rooms above say so at start-up: this room knows none of them."""

from collections.abc import Callable, Collection, Mapping

from herald.attention.models import Part

#: gives the names of objects by their ids; those that are no more are left out
Namer = Callable[[Collection[int]], Mapping[int, str]]
_NAMERS: dict[Part, Namer] = {}


def tells_names(part: Part) -> Callable[[Namer], Namer]:
    """Let a room say what its objects are called."""

    def keep(namer: Namer) -> Namer:
        _NAMERS[part] = namer
        return namer

    return keep


def names_of(part: Part, ids: Collection[int]) -> Mapping[int, str]:
    """The names of objects by their ids; empty where objects of the kind have none."""
    namer = _NAMERS.get(part)
    return namer(ids) if namer else {}


def words_for(part: Part, object_id: int) -> str:
    """An object as people call it: “Group “North””, or “Rollout 4” where it has no name."""
    name = names_of(part, [object_id]).get(object_id)
    return f"{part.label} “{name}”" if name else f"{part.label} {object_id}"
