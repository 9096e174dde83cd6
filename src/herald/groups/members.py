"""Verbs on the members of groups: pick by hand, move within a family, turn static or into a rule."""

from collections.abc import Collection
from datetime import datetime

from herald.fleet.models import Device
from herald.groups import constraints
from herald.groups.consequences.acceptance import Agreement, gated
from herald.groups.keeping import check_by_hand
from herald.groups.membership import MembershipDiff, evaluate_group, follow_references, set_members
from herald.groups.models import Group, GroupKind, GroupMembership, GroupReference
from herald.groups.services import set_rule
from herald.http.errors import Conflict, Invalid
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record


def change_members(
    group: Group,
    *,
    add: Collection[int],
    remove: Collection[int],
    actor: User | None,
    now: datetime,
    move: bool = False,
    agreement: Agreement | None = None,
) -> MembershipDiff:
    """Put devices into a group picked by hand, and take others out.

    Groups of a family exclude each other: devices that are in another one are moved, if `move` confirms it.

    Raises:
        Invalid: the group's members follow from a rule.
        Conflict: devices would have to leave other groups of the family; `moves` says how many leave which.
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    if group.kind != GroupKind.STATIC:
        raise Invalid("/add", "The members of this group follow from its rule; change the rule instead.")
    with gated(agreement, now=now):
        check_by_hand(group)
        cause = f"picked by {actor or 'hand'}"[:80]
        constraints.check_model(group, set(add) - set(remove))
        moved = _leave_family(group, set(add) - set(remove), move=move, now=now)
        wanted = set(group.memberships.device_ids()) | set(add)
        difference = set_members(group, Device.objects.by_ids(wanted - set(remove)), now=now, cause=cause)
        follow_references(group, now=now)
        sentence = f"Changed who is in “{group.name}”: {difference.joined} joined, {difference.left} left"
        if moved:
            sentence += f"; {', '.join(f'{n} moved from “{name}”' for name, n in moved.items())}"
        record(now=now, actor=actor, kind="group", object_id=group.pk, sentence=sentence[:300])
    return difference


def _leave_family(group: Group, devices: Collection[int], *, move: bool, now: datetime) -> dict[str, int]:
    """Take devices out of the other groups of the family; how many left which."""
    if group.family_id is None or not devices:
        return {}
    found: dict[Group, list[int]] = {}
    others = GroupMembership.objects.of_devices(devices).in_family(group.family_id).exclude(group=group)
    for membership in others.select_related("group"):
        found.setdefault(membership.group, []).append(membership.device_id)
    if not found:
        return {}
    moves = [{"id": g.pk, "name": g.name, "devices": len(ids)} for g, ids in found.items()]
    by_rule = [g.name for g in found if g.kind != GroupKind.STATIC]
    if by_rule:
        raise Conflict(f"Devices are in “{by_rule[0]}” by its rule, which no move can change.", moves=moves)
    if not move:
        words = ", ".join(f"{m['devices']} from “{m['name']}”" for m in moves)
        raise Conflict(f"A device is in one group of this family only. This moves {words}.", moves=moves)
    for other, ids in found.items():
        check_by_hand(other)
        stay = set(other.memberships.device_ids()) - set(ids)
        set_members(other, Device.objects.by_ids(stay), now=now, cause=f"moved to “{group.name}”"[:80])
        follow_references(other, now=now)
    return {g.name: len(ids) for g, ids in found.items()}


def convert_to_static(group: Group, *, actor: User | None, now: datetime, agreement: Agreement | None = None) -> Group:
    """Let the group keep the members of now, whatever becomes of them; its rule stays in its history.

    Raises:
        Conflict: it is picked by hand already.
    """
    with gated(agreement, now=now):
        group = Group.objects.select_for_update(of=("self",)).get(pk=group.pk)
        if group.kind == GroupKind.STATIC:
            raise Conflict(f"“{group.name}” is picked by hand already.")
        past = group.rule
        group.kind, group.rule, group.previous_rule = GroupKind.STATIC, "", past
        group.is_time_dependent, group.updated_at = False, now
        group.save(update_fields=["kind", "rule", "previous_rule", "is_time_dependent", "updated_at"])
        GroupReference.objects.filter(referrer=group).delete()
        sentence = f"Turned “{group.name}” static: it keeps its {group.memberships.count()} devices of now"
        record(
            now=now, actor=actor, kind="group", object_id=group.pk, sentence=sentence, before={"rule": past}, after=None
        )
        notify("group", group.pk)
    return group


def convert_to_rule(
    group: Group, rule: str, *, actor: User | None, now: datetime, agreement: Agreement | None = None
) -> MembershipDiff:
    """Let the group's members follow a rule from now on.

    Raises:
        Conflict: it is by rule already, or one of a family, whose groups are picked by hand.
        InvalidRule: the rule cannot be understood.
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    with gated(agreement, now=now):
        group = Group.objects.select_for_update(of=("self",)).get(pk=group.pk)
        if group.kind == GroupKind.RULE:
            raise Conflict(f"“{group.name}” is by rule already.")
        check_by_hand(group)
        if group.family_id is not None:
            raise Conflict("Groups of a family are picked by hand, so that a device is in one of them only.")
        group.kind, group.updated_at = GroupKind.RULE, now
        set_rule(group, rule)
        difference = evaluate_group(group, now=now, cause="it became a rule")
        sentence = f"Turned “{group.name}” into a rule: {difference.joined} joined, {difference.left} left"
        record(now=now, actor=actor, kind="group", object_id=group.pk, sentence=sentence, after={"rule": group.rule})
        notify("group", group.pk)
    return difference
