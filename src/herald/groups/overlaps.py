"""How groups overlap: the sizes of all their intersections."""

from collections.abc import Sequence
from dataclasses import dataclass

from django.db.models import BigIntegerField, Case, Sum, Value, When

from herald.groups.models import Group, GroupMembership
from herald_core.rules import And, Clause, Node, Not, Op, to_text

MOST_GROUPS = 8


@dataclass(frozen=True, kw_only=True)
class Overlap:
    """Devices that are in exactly these of the chosen groups; `rule` lists them."""

    groups: list[int]
    count: int
    rule: str


def overlaps_of(groups: Sequence[Group]) -> list[Overlap]:
    """Every combination of the groups that has devices, the largest first; combinations exclude each other."""
    bit = Case(
        *(When(group_id=g.pk, then=Value(1 << index)) for index, g in enumerate(groups)), output_field=BigIntegerField()
    )
    masks = GroupMembership.objects.of_groups([g.pk for g in groups]).order_by().values("device_id")
    counts: dict[int, int] = {}
    for mask in masks.annotate(mask=Sum(bit)).values_list("mask", flat=True):
        counts[int(mask)] = counts.get(int(mask), 0) + 1
    ranked = sorted(counts.items(), key=lambda item: (-item[1], item[0]))
    return [
        Overlap(
            groups=[g.pk for index, g in enumerate(groups) if mask >> index & 1],
            count=n,
            rule=to_text(And(tuple(_in(g, bool(mask >> index & 1)) for index, g in enumerate(groups)))),
        )
        for mask, n in ranked
    ]


def _in(group: Group, member: bool) -> Node:
    clause = Clause("group", Op.EQ, (group.name,))
    return clause if member else Not(clause)
