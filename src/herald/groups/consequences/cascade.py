"""What a change of devices or of rules would do to groups, found in memory before anything is written."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from herald.fleet.vocabulary import load_records, load_vocabulary
from herald.groups.membership import referrers_in_order, rule_groups_in_order
from herald.groups.models import Group, GroupMembership
from herald.groups.references import Reference, other_rules_naming, references_to, rule_of
from herald.groups.rules import parse_saved_rule, predicate_of, rule_references
from herald_core.rules import Record, Vocabulary, clauses

CHUNK = 5000
Records = Mapping[int, Record]
#: Gives the records of some devices as they would be after the change.
After = Callable[[Records], Records]


@dataclass(kw_only=True)
class GroupEffect:
    """How many devices would join and leave a group, and what uses it."""

    group: Group
    joins: int = 0
    leaves: int = 0
    uses: list[Reference] = field(default_factory=list)


def differences(effects: Iterable[GroupEffect]) -> list[tuple[Group, int, int]]:
    """Groups, and how many devices would join and leave each."""
    return [(e.group, e.joins, e.leaves) for e in effects]


def effects_of(
    device_ids: Sequence[int],
    after: After,
    touched: frozenset[str],
    *,
    now: datetime,
    rules: Mapping[int, str] | None = None,
    new: Iterable[Record] = (),
) -> list[GroupEffect]:
    """The groups that the devices would join or leave; those with no difference are left out.

    `touched` are the fields that the change may alter, `rules` new rules by group id, `new` the records of devices
    that are not there yet.
    """
    vocabulary = load_vocabulary()
    affected = _affected(touched, vocabulary, rules or {})
    if not affected:
        return []
    effects = {g.pk: GroupEffect(group=g) for g in affected}
    predicates = [(g, predicate_of((rules or {}).get(g.pk, g.rule), vocabulary, now)) for g in affected]
    names = dict(Group.objects.values_list("pk", "name"))
    for start in range(0, len(device_ids), CHUNK):
        ids = device_ids[start : start + CHUNK]
        inside: dict[int, set[int]] = {i: set() for i in ids}
        for device_id, group_id in GroupMembership.objects.of_devices(ids).values_list("device_id", "group_id"):
            inside[device_id].add(group_id)
        for device_id, record in after(load_records(ids, vocabulary, now)).items():
            _count(record, inside[device_id], predicates, names, effects)
    for record in new:
        _count(record, set(), predicates, names, effects)
    found = [e for e in effects.values() if e.joins or e.leaves]
    for effect in found:
        effect.uses = references_to(effect.group)
    return found


def _count(
    record: Record,
    inside: set[int],
    predicates: Sequence[tuple[Group, Callable[[Record], bool]]],
    names: Mapping[int, str],
    effects: Mapping[int, GroupEffect],
) -> None:
    groups = {names[i] for i in inside}  # grows and shrinks as the groups are decided, in their order
    seen: dict[str, Any] = {**record, "group": groups}
    for group, matches in predicates:
        if matches(seen):
            if group.pk not in inside:
                effects[group.pk].joins += 1
                groups.add(group.name)
        elif group.pk in inside:
            effects[group.pk].leaves += 1
            groups.discard(group.name)


def _affected(touched: frozenset[str], vocabulary: Vocabulary, rules: Mapping[int, str]) -> list[Group]:
    """Groups whose rules read a touched field or are changed, and those that refer to them, in order."""
    ordered = rule_groups_in_order()
    direct = {
        g.pk for g in ordered if g.pk in rules or any(c.field in touched for c in _clauses_of(g.rule, vocabulary))
    }
    return [g for g in ordered if g.pk in direct | {r.pk for r in referrers_in_order(direct)}]


def _clauses_of(rule: str, vocabulary: Vocabulary) -> list[Any]:
    return list(clauses(parse_saved_rule(rule, vocabulary)))


def groups_reading(key: str, word: str | None = None) -> list[Group]:
    """Groups whose rules read a field, or name a word of it."""
    vocabulary = load_vocabulary()
    return [g for g in Group.objects.by_rule().order_by("name") if rule_references(g.rule, vocabulary, key, word)]


def rules_naming(key: str, word: str | None = None) -> list[Reference]:
    """Every rule that reads a field, or names a word of it: of groups, and of whatever else keeps rules."""
    return [*map(rule_of, groups_reading(key, word)), *other_rules_naming(key, word)]


class RuleIndex:
    """Which groups' rules read which fields and name which words: all rules read once, for lists that ask of many."""

    def __init__(self) -> None:
        vocabulary = load_vocabulary()
        self._reading: dict[str, list[Group]] = {}
        self._naming: dict[tuple[str, str], list[Group]] = {}
        for group in Group.objects.by_rule().order_by("name"):
            found = _clauses_of(group.rule, vocabulary)
            for key in dict.fromkeys(c.field for c in found):
                self._reading.setdefault(key, []).append(group)
            for key, word in dict.fromkeys((c.field, str(v)) for c in found for v in c.values):
                self._naming.setdefault((key, word), []).append(group)

    def reading(self, key: str) -> list[Group]:
        """Groups whose rules read a field, as `groups_reading` finds them."""
        return self._reading.get(key, [])

    def naming(self, key: str, word: str) -> list[Group]:
        """Groups whose rules name a word of a field, as `groups_reading` finds them."""
        return self._naming.get((key, word), [])
