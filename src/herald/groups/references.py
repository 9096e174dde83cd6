"""What uses a group, or a word in a rule. Rooms above this one say so at start-up: this room knows none of them."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from herald.groups.membership import referrers_in_order
from herald.groups.models import Group


@dataclass(frozen=True, kw_only=True)
class Reference:
    """Something that uses a group."""

    kind: str
    id: int
    sentence: str
    #: whether it runs and takes the group's members as they are at each time, so that who joins is reached
    follows: bool = False

    @property
    def within(self) -> str:
        """The sentence as it stands within another."""
        return self.sentence[0].lower() + self.sentence[1:]


def rule_of(group: Group) -> Reference:
    """The rule of a group, as what uses something."""
    return Reference(kind="group", id=group.pk, sentence=f"The rule of “{group.name}”")


class RuleOwner(Protocol):
    """A room that keeps rules of its own, besides those of groups."""

    def naming(self, key: str, word: str | None) -> list[Reference]:
        """Those whose rules read a field, or name a word of it."""

    def rename(self, key: str, old: str, new: str) -> None:
        """Write `new` for `old` wherever these rules name it on a field."""


Finder = Callable[[int], list[Reference]]
_FINDERS: list[Finder] = []
_KEEPERS: list[RuleOwner] = []


def register_rule_owner(keeper: RuleOwner) -> None:
    """Let a room say which of its rules name a word, and follow as it gets another name."""
    _KEEPERS.append(keeper)


def rename_elsewhere(key: str, old: str, new: str) -> None:
    """Write `new` for `old` in the rules that are not of groups."""
    for keeper in _KEEPERS:
        keeper.rename(key, old, new)


def other_rules_naming(key: str, word: str | None) -> list[Reference]:
    """Whatever keeps a rule that reads a field, or names a word of it, and is no group."""
    return [use for keeper in _KEEPERS for use in keeper.naming(key, word)]


def tells_uses(finder: Finder) -> Finder:
    """Let a room say which of its things use the group with a given id."""
    _FINDERS.append(finder)
    return finder


def references_to(group: Group) -> list[Reference]:
    """What uses the group: open rollouts, schedules, and rules of other groups."""
    uses = [use for finder in _FINDERS for use in finder(group.pk)]
    return [
        *uses,
        *other_rules_naming("group", group.name),
        *map(rule_of, referrers_in_order([group.pk])),
    ]


def direct_uses(group: Group) -> list[Reference]:
    """What names the group itself: not what follows it by way of other groups' rules."""
    return [*(use for finder in _FINDERS for use in finder(group.pk)), *other_rules_naming("group", group.name)]


def live_references(group: Group) -> list[Reference]:
    """What runs and would reach whoever joins, also by way of other groups' rules."""
    ids = [group.pk, *(g.pk for g in referrers_in_order([group.pk]))]
    names = Group.objects.filter(pk__in=ids).values_list("name", flat=True)
    uses = [u for pk in ids for finder in _FINDERS for u in finder(pk)]
    uses += [u for name in names for u in other_rules_naming("group", name)]
    return list({(u.kind, u.id): u for u in uses if u.follows}.values())
