"""What a person sees of all groups at once: how they changed today, and what is worth a look."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db.models import BigIntegerField, Count, Exists, Func, OuterRef, Sum
from django.db.models.functions import Coalesce

from herald.fleet.models import Device
from herald.groups.models import Group, GroupMembership, MembershipEvent
from herald_core.rules import Clause, Op, to_text

TODAY = timedelta(hours=24)
#: groups named by the rule that lists the devices in none; with more of them there is no such rule
_MOST_NAMED = 100
_TAGS_SHOWN = 20


@dataclass(frozen=True, kw_only=True)
class GroupChange:
    """How many devices joined and left a group; one that did both counts in both."""

    group: Group
    joined: int
    left: int


@dataclass(frozen=True, kw_only=True)
class TagUsedOnce:
    tag: str
    device: str


@dataclass(frozen=True, kw_only=True)
class GroupsOverview:
    """All groups at once. `in_no_group_rule` lists the devices that are in none, empty where it would be too long."""

    devices: int
    in_no_group: int
    in_no_group_rule: str
    changed: list[GroupChange]
    empty: list[Group]
    equal: list[list[Group]]
    tags_once: list[TagUsedOnce]


def groups_overview(*, now: datetime) -> GroupsOverview:
    """What changed in the last 24 hours, and what may be a slip."""
    groups = list(Group.objects.with_counts())
    outside = ~Exists(GroupMembership.objects.filter(device=OuterRef("pk")))
    return GroupsOverview(
        devices=Device.objects.count(),
        in_no_group=Device.objects.filter(outside).count(),
        in_no_group_rule=_outside_rule(groups),
        changed=_changed(groups, now - TODAY),
        empty=[g for g in groups if not g.member_count],
        equal=_equal(groups),
        tags_once=_tags_once(),
    )


def _outside_rule(groups: Sequence[Group]) -> str:
    if not groups or len(groups) > _MOST_NAMED:
        return "" if groups else "everything"
    return to_text(Clause("group", Op.NONE_OF, tuple(g.name for g in groups)))


def _changed(groups: Sequence[Group], since: datetime) -> list[GroupChange]:
    """The groups with joins or leaves since a moment, those with most first."""
    events = MembershipEvent.objects.after(since).filter(group__in=[g.pk for g in groups])
    counts: dict[int, list[int]] = {}
    for group, joined, n in events.order_by().values_list("group_id", "joined").annotate(n=Count("id")):
        counts.setdefault(group, [0, 0])[0 if joined else 1] = n
    found = [GroupChange(group=g, joined=counts[g.pk][0], left=counts[g.pk][1]) for g in groups if g.pk in counts]
    return sorted(found, key=lambda c: (-(c.joined + c.left), c.group.name))


def _equal(groups: Sequence[Group]) -> list[list[Group]]:
    """Groups of two or more devices that have the same members, by the names of the first of each set.

    Two sets of one size whose hashed members have one sum are taken as the same.
    """
    sizes: dict[int, list[Group]] = {}
    for group in groups:
        if group.member_count > 1:
            sizes.setdefault(group.member_count, []).append(group)
    alike = {g.pk: g for of_size in sizes.values() if len(of_size) > 1 for g in of_size}
    hashed = Func("device_id", 0, function="hashint8extended", output_field=BigIntegerField())
    sums = GroupMembership.objects.of_groups(list(alike)).order_by().values_list("group_id")
    sets: dict[tuple[int, object], list[Group]] = {}
    for pk, signature in sums.annotate(signature=Sum(hashed)):
        sets.setdefault((alike[pk].member_count, signature), []).append(alike[pk])
    return sorted(
        (sorted(same, key=lambda g: g.name) for same in sets.values() if len(same) > 1), key=lambda s: s[0].name
    )


def _tags_once() -> list[TagUsedOnce]:
    """Tags that exactly one device has: often a slip for another."""
    tags = Device.objects.order_by().annotate(tag=Func("tags", function="unnest")).values("tag")
    once = tags.annotate(n=Count("id")).filter(n=1).order_by("tag").values_list("tag", flat=True)[:_TAGS_SHOWN]
    wanted = list(once)
    names: dict[str, str] = {}
    for name, slugs in Device.objects.filter(tags__overlap=wanted).values_list("name", Coalesce("tags", [])):
        names.update({slug: name for slug in slugs if slug in wanted})
    return [TagUsedOnce(tag=t, device=names[t]) for t in wanted if t in names]
