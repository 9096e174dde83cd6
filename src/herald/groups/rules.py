"""Rules of groups: reading them with the fleet's own fields, groups and tags."""

from datetime import UTC, datetime
from functools import lru_cache

from herald.fleet.vocabulary import load_vocabulary
from herald.groups.models import Group, GroupReference
from herald.http.errors import InvalidRule
from herald_core.rules import (
    Node,
    Predicate,
    RuleError,
    RuleProblem,
    Vocabulary,
    clauses,
    compile_predicate,
    depends_on_time,
    groups_of,
    parse,
)
from herald_core.rules.lexer import problem
from herald_core.text import closest

_parse = lru_cache(maxsize=4000)(parse)


def read_rule(text: str, vocabulary: Vocabulary, *, of_group: Group | None = None) -> Node:
    """The tree of a rule whose groups all exist.

    Raises:
        InvalidRule: with every problem found; also where the rule names an unknown group, or one
            that leads back to `of_group`.
    """
    try:
        node = parse_saved_rule(text, vocabulary)
    except RuleError as error:
        raise InvalidRule(error.problems) from error
    problems = _group_problems(text, node, of_group)
    if problems:
        raise InvalidRule(tuple(problems))
    return node


def parse_saved_rule(text: str, vocabulary: Vocabulary) -> Node:
    """The tree of a rule that was checked when it was saved. Kept in memory by text and vocabulary."""
    return _parse(text, vocabulary)


def rule_references(text: str, vocabulary: Vocabulary, key: str, word: str | None = None) -> bool:
    """Whether a rule that was checked when it was saved reads a field, or names a word of it.

    Raises:
        RuleError: it cannot be understood any more.
    """
    return any(
        c.field == key and (word is None or word in c.values) for c in clauses(parse_saved_rule(text, vocabulary))
    )


def predicate_of(text: str, vocabulary: Vocabulary, now: datetime) -> Predicate:
    """A saved rule as a function of one device; kept in memory unless it depends on the time."""
    node = parse_saved_rule(text, vocabulary)
    return compile_predicate(node, vocabulary, now) if depends_on_time(node) else _timeless(text, vocabulary)


@lru_cache(maxsize=4000)
def _timeless(text: str, vocabulary: Vocabulary) -> Predicate:
    return compile_predicate(parse_saved_rule(text, vocabulary), vocabulary, datetime.min.replace(tzinfo=UTC))


def facts_read(group: Group) -> list[str]:
    """The facts that a group's rule reads, presence among them: what can change without anybody doing it."""
    vocabulary = load_vocabulary()
    if not group.rule:
        return []
    fields = {c.field for c in clauses(parse_saved_rule(group.rule, vocabulary))}
    changing = {"presence", "firmware", "last_check_in"}
    return sorted(f for f in fields if f in changing or vocabulary.fields[f].source == "fact")


def check_saved_rules(key: str) -> list[Group]:
    """The groups whose saved rules, which read the field, can no longer be understood as fields are now."""
    vocabulary, broken = load_vocabulary(), []
    for group in Group.objects.by_rule().filter(rule__icontains=key).order_by("name"):
        try:
            parse_saved_rule(group.rule, vocabulary)
        except RuleError:
            broken.append(group)
    return broken


def _group_problems(text: str, node: Node, of_group: Group | None) -> list[RuleProblem]:
    wanted = groups_of(node)
    if not wanted:
        return []
    known = dict(Group.objects.values_list("name", "pk"))
    problems = []
    for clause in clauses(node):
        if clause.field != "group":
            continue
        for name in map(str, clause.values):
            if name not in known:
                message = f"There is no group called “{name}”."
                problems.append(_at(text, clause.start, clause.end, message, closest(name, known)))
            elif of_group and (cycle := _cycle(of_group, known[name], known)):
                message = f"The groups would refer to each other in a circle: {' → '.join(cycle)}."
                problems.append(_at(text, clause.start, clause.end, message))
    return problems


def _at(text: str, start: int, end: int, message: str, near: str | None = None) -> RuleProblem:
    return problem(text, start, end, message, (), near)


def _cycle(group: Group, referred: int, known: dict[str, int]) -> list[str] | None:
    """The names from the group by way of `referred` back to it, or None."""
    names = {pk: name for name, pk in known.items()}
    edges: dict[int, list[int]] = {}
    for referrer, target in GroupReference.objects.values_list("referrer_id", "referred_id"):
        edges.setdefault(referrer, []).append(target)
    paths = [[referred]]
    seen = set()
    while paths:
        path = paths.pop()
        if path[-1] == group.pk:
            return [names[group.pk], *(names[p] for p in path)]
        if path[-1] not in seen:
            seen.add(path[-1])
            paths += [[*path, target] for target in edges.get(path[-1], [])]
    return None
