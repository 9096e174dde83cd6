"""A rule proposed for a group that was picked by hand, held against the fleet as rules see it."""

from dataclasses import dataclass
from datetime import datetime

from herald.fleet.models import Device
from herald.fleet.vocabulary import load_records, load_vocabulary
from herald.groups.membership import joining, leaving
from herald.groups.models import Group
from herald.groups.rule_queries import matching
from herald.groups.rules import read_rule
from herald.http.errors import NobodyThere
from herald_core.rules import And, Node, Or, to_text
from herald_core.rules.propose import propose

CHUNK = 10_000


@dataclass(frozen=True, kw_only=True)
class ProposedRule:
    """A rule, with the devices that would join (it takes them besides) and leave (it misses them)."""

    rule: str
    joins: int
    leaves: int
    joining: list[Device]
    leaving: list[Device]


def propose_rule(group: Group, *, limit: int, now: datetime) -> ProposedRule:
    """The shortest rule found that gives exactly the group's members, or the nearest with what differs.

    What differs is asked of the database, by the rule as it would be saved.

    Raises:
        NobodyThere: the group has no members.
    """
    members = set(group.memberships.device_ids())
    if not members:
        raise NobodyThere(f"“{group.name}” has no devices, so there is nothing to find a rule for.")
    vocabulary = load_vocabulary()
    ids = list(Device.objects.order_by("id").values_list("pk", flat=True))
    records = []
    for start in range(0, len(ids), CHUNK):
        found = load_records(ids[start : start + CHUNK], vocabulary, now)
        records += [found[pk] for pk in ids[start : start + CHUNK]]
    rule = _in_lines(propose(records, [i for i, pk in enumerate(ids) if pk in members], vocabulary).rule)
    wanted = matching(read_rule(rule, vocabulary, of_group=group), vocabulary, now)
    comes, goes = joining(group, wanted), leaving(group, wanted)
    stays_out = Device.objects.filter(pk__in=goes.values("device_id"))
    return ProposedRule(
        rule=rule,
        joins=comes.count(),
        leaves=goes.count(),
        joining=list(comes.with_names().order_by("name")[:limit]),
        leaving=list(stays_out.with_names().order_by("name")[:limit]),
    )


def _in_lines(node: Node) -> str:
    """The rule with each part that must be true on a line of its own."""
    if not isinstance(node, And):
        return to_text(node)
    return "\nand ".join(f"({to_text(o)})" if isinstance(o, Or) else to_text(o) for o in node.operands)
