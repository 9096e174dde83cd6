"""Editing what operators say of devices: one change, applied to the state of one device at a time."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from herald_core.properties import Stored

#: What can be edited, as it is kept before and after: name, tags, attributes, site and custodian by id, admission, own
#: time zone (empty for the site's), seconds between check-ins.
State = Mapping[str, Any]


@dataclass(frozen=True, kw_only=True)
class Change:
    """What an edit does to each device. What is left out stays as it is.

    `replace` puts whole fields in place (name, site, custodian, admission, tags, own_time_zone, interval); `site` and
    `custodian` may be None, which clears them.
    """

    replace: Mapping[str, Any] = field(default_factory=dict)
    set_attributes: Mapping[str, Stored] = field(default_factory=dict)
    clear_attributes: tuple[str, ...] = ()
    add_tags: tuple[str, ...] = ()
    remove_tags: tuple[str, ...] = ()

    @property
    def is_empty(self) -> bool:
        return not (self.replace or self.set_attributes or self.clear_attributes or self.add_tags or self.remove_tags)


def edited(state: State, change: Change) -> dict[str, Any]:
    """The state after the change. Tags stay in their order, new ones at the end; each once. A tag both added and
    taken off is there."""
    result = {**state, **change.replace}
    attributes = {k: v for k, v in result["attributes"].items() if k not in change.clear_attributes}
    result["attributes"] = {**attributes, **change.set_attributes}
    kept = [t for t in result["tags"] if t not in change.remove_tags or t in change.add_tags]
    result["tags"] = list(dict.fromkeys([*kept, *change.add_tags]))
    return result


def fields_touched(change: Change) -> frozenset[str]:
    """The fields of rules whose values the change may alter."""
    touched = set(change.set_attributes) | set(change.clear_attributes)
    if change.add_tags or change.remove_tags or "tags" in change.replace:
        touched.add("tag")
    for key, fields in _FIELDS_OF.items():
        if key in change.replace:
            touched |= fields
    return frozenset(touched)


_FIELDS_OF: Mapping[str, frozenset[str]] = {
    "name": frozenset({"name"}),
    "site": frozenset({"site", "region", "time_zone"}),
    "custodian": frozenset({"custodian", "custodian_tag"}),
    "admission": frozenset({"admission"}),
    "own_time_zone": frozenset({"time_zone"}),
    "interval": frozenset({"presence"}),
}


def holds(state: State | None, kept: State) -> bool:
    """Whether a device is still in a state that was kept. Parts that states did not have when it was kept do not
    count; no state is of a device that is no more."""
    return state is not None and all(state[part] == value for part, value in kept.items())
