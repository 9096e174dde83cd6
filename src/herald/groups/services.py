"""Verbs on groups: preview, create, change, delete, and who would be touched."""

import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TypedDict, Unpack

from django.db import transaction

from herald.fleet.models import Device, DeviceModel
from herald.fleet.vocabulary import load_records, load_vocabulary, record_with_groups
from herald.groups import constraints
from herald.groups.consequences.acceptance import Agreement, gated
from herald.groups.consequences.cascade import groups_reading
from herald.groups.membership import (
    MembershipDiff,
    evaluate_group,
    joining,
    leaving,
    lock_membership,
    set_members,
)
from herald.groups.models import Folder, Group, GroupKind, GroupMembership, GroupReference
from herald.groups.references import references_to, rename_elsewhere
from herald.groups.rule_queries import matching
from herald.groups.rules import read_rule
from herald.http.errors import Conflict, Invalid
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.rules import ClauseVerdict, depends_on_time, explain, groups_of
from herald_core.rules.rename import rename_value
from herald_core.text import nfc


@dataclass(kw_only=True)
class Preview:
    """What a rule matches. `joins` and `leaves` compare with the group's members, where one is given."""

    count: int
    devices: list[Device]
    took_ms: float
    as_of: datetime
    fleet: int
    joins: int | None = None
    leaves: int | None = None
    joining: list[Device] = field(default_factory=list)
    leaving: list[Device] = field(default_factory=list)


def preview_rule(rule: str, *, limit: int, now: datetime, group: Group | None = None) -> Preview:
    """Who matches a rule, and what saving it for `group` would change.

    Raises:
        InvalidRule: the rule cannot be understood.
    """
    started = time.perf_counter()
    vocabulary = load_vocabulary()
    wanted = matching(read_rule(rule, vocabulary, of_group=group), vocabulary, now)
    preview = Preview(
        count=wanted.count(),
        devices=list(wanted.with_names().order_by("name")[:limit]),
        took_ms=0.0,
        as_of=now,
        fleet=Device.objects.count(),
    )
    if group is not None:
        comes, goes = joining(group, wanted), leaving(group, wanted)
        preview.joins, preview.leaves = comes.count(), goes.count()
        preview.joining = list(comes.with_names().order_by("name")[:limit])
        preview.leaving = list(
            Device.objects.filter(pk__in=goes.values("device_id")).with_names().order_by("name")[:limit]
        )
    preview.took_ms = round((time.perf_counter() - started) * 1000, 1)
    return preview


Explained = tuple[bool, list[ClauseVerdict]]


def explain_rule(rule: str, device: Device, *, now: datetime) -> Explained:
    """Whether the device matches, and what each line of the rule says of it.

    Raises:
        InvalidRule: the rule cannot be understood.
    """
    return explain_devices(rule, [device], now=now)[device.pk]


def explain_devices(rule: str, devices: Sequence[Device], *, now: datetime) -> dict[int, Explained]:
    """The same for several devices, by their id.

    Raises:
        InvalidRule: the rule cannot be understood.
    """
    vocabulary = load_vocabulary()
    node = read_rule(rule, vocabulary)
    ids = [d.pk for d in devices]
    inside: dict[int, list[str]] = {i: [] for i in ids}
    for device_id, name in GroupMembership.objects.of_devices(ids).values_list("device_id", "group__name"):
        inside[device_id].append(name)
    return {
        pk: explain(node, record_with_groups(record, inside[pk]), vocabulary, now)
        for pk, record in load_records(ids, vocabulary, now).items()
    }


class GroupFields(TypedDict, total=False):
    """What can be changed of a group; what is left out stays. No folder, family or model clears it."""

    name: str
    note: str
    rule: str
    folder: Folder | None
    family: str | None
    only_model: DeviceModel | None


def create_group(
    *,
    name: str,
    kind: str,
    rule: str = "",
    note: str = "",
    folder: Folder | None = None,
    family: str | None = None,
    only_model: DeviceModel | None = None,
    device_ids: Sequence[int] = (),
    actor: User | None,
    now: datetime,
) -> Group:
    """A new group with its members; without any it stands ready for those to come.

    Raises:
        InvalidRule: the rule cannot be understood.
        Invalid: the name is taken or empty.
        Conflict: the devices are of other models, or in other groups of the family.
    """
    with transaction.atomic():
        lock_membership()
        group = Group(kind=kind, created_at=now, updated_at=now, folder=folder, only_model=only_model)
        _describe(group, name=name, note=note)
        if kind == GroupKind.RULE:
            set_rule(group, rule)
            evaluate_group(group, now=now, cause="the group was made")
        else:
            group.save()
            constraints.check_model(group, device_ids)
            set_members(group, Device.objects.by_ids(device_ids), now=now, cause="picked by hand")
        if family:
            constraints.join_family(group, family)
            group.save(update_fields=["family"])
        members = group.memberships.count()
        record(
            now=now,
            actor=actor,
            kind="group",
            object_id=group.pk,
            sentence=f"Made the group “{group.name}” with {members} devices",
            after={"rule": group.rule, "kind": group.kind},
        )
        notify("group", group.pk)
    return group


def change_group(
    group: Group,
    *,
    actor: User | None,
    now: datetime,
    agreement: Agreement | None = None,
    **fields: Unpack[GroupFields],
) -> MembershipDiff:
    """Change what a group is called, where it is, what it is kept to, and its rule; who joined and left by it.

    Raises:
        InvalidRule: the rule cannot be understood.
        Invalid: the name is taken or empty, or a rule is given for a static group.
        Conflict: its members are of other models or in other groups of the family.
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    with gated(agreement, now=now):
        group = Group.objects.select_for_update(of=("self",)).get(pk=group.pk)
        before = {"name": group.name, "rule": group.rule, "note": group.note}
        _describe(group, name=fields.get("name", group.name), note=fields.get("note", group.note))
        _place(group, fields)
        group.updated_at = now
        difference = MembershipDiff()
        rule = fields.get("rule")
        if rule is not None and group.kind != GroupKind.RULE:
            raise Invalid("/rule", "This group is picked by hand and has no rule.")
        if rule is not None:
            set_rule(group, rule)
            difference = evaluate_group(group, now=now, cause="the rule changed")
        else:
            constraints.check_rule(group)
            group.save()
        constraints.forget_empty_families()
        _rename_in_rules(before["name"], group)
        record(
            now=now,
            actor=actor,
            kind="group",
            object_id=group.pk,
            sentence=f"Changed the group “{group.name}”: {difference.joined} joined, {difference.left} left",
            before=before,
            after={"name": group.name, "rule": group.rule, "note": group.note},
        )
        notify("group", group.pk)
    return difference


def _place(group: Group, fields: GroupFields) -> None:
    if "folder" in fields:
        group.folder = fields["folder"]
    if "only_model" in fields:
        group.only_model = fields["only_model"]
        if group.kind == GroupKind.STATIC:
            constraints.check_model(group, group.memberships.device_ids())
    if "family" in fields:
        constraints.join_family(group, fields["family"] or "")


def delete_group(group: Group, *, actor: User | None, now: datetime) -> None:
    """Delete a group that nothing uses.

    Raises:
        Conflict: something uses it; `uses` lists what.
    """
    with transaction.atomic():
        lock_membership()
        group = Group.objects.select_for_update(of=("self",)).get(pk=group.pk)
        uses = references_to(group)
        if uses:
            message = f"“{group.name}” is in use: {'; '.join(u.sentence for u in uses)}. End or change those first."
            raise Conflict(message, uses=[u.__dict__ for u in uses])
        if _was_used(group):
            message = f"“{group.name}” is part of the record of past rollouts or commands, so it stays."
            raise Conflict(message, uses=[])
        sentence = f"Deleted the group “{group.name}”, which had {group.memberships.count()} devices"
        record(now=now, actor=actor, kind="group", object_id=group.pk, sentence=sentence, before={"rule": group.rule})
        notify("group", group.pk)
        group.delete()


def _was_used(group: Group) -> bool:
    return bool(
        group.rings.exists()
        or group.rollouts_for.exists()
        or group.rollouts_not_for.exists()
        or group.schedules_for.exists()
        or group.schedules_not_for.exists()
    )


def _describe(group: Group, *, name: str, note: str) -> None:
    name = nfc(name).strip()
    if not name or len(name) > 80 or '"' in name:
        raise Invalid("/name", "A group has a name of 1 to 80 characters, without quotes.")
    if Group.objects.by_name(name).exclude(pk=group.pk).exists():
        raise Invalid("/name", f"There is a group called “{name}” already.")
    group.name, group.note = name, note[:500]


def set_rule(group: Group, rule: str) -> None:
    """Write a group's rule and the groups that it refers to; nobody joins or leaves by it yet.

    Raises:
        InvalidRule: the rule cannot be understood.
    """
    node = read_rule(rule, load_vocabulary(), of_group=group if group.pk else None)
    group.rule, group.is_time_dependent = rule.strip(), depends_on_time(node)
    constraints.check_rule(group)
    group.save()
    GroupReference.objects.filter(referrer=group).delete()
    GroupReference.objects.bulk_create(
        [GroupReference(referrer=group, referred=g) for g in Group.objects.filter(name__in=list(groups_of(node)))]
    )


def replace_in_rules(field_key: str, old: str, new: str, *, now: datetime) -> list[Group]:
    """Write `new` for `old` in every rule that names it on the field, and evaluate those groups."""
    lock_membership()
    vocabulary = load_vocabulary()
    changed = groups_reading(field_key, old)
    for group in changed:
        group.rule = rename_value(group.rule, field_key, old, new, vocabulary)
        group.save(update_fields=["rule"])
    for group in changed:
        evaluate_group(group, now=now, cause=f"{field_key} {old} became {new}"[:80])
    rename_elsewhere(field_key, old, new)
    return changed


def _rename_in_rules(old: str, group: Group) -> None:
    """Rules name groups, so a new name is written into the rules that use the old one."""
    if old == group.name:
        return
    for reference in GroupReference.objects.filter(referred=group).select_related("referrer"):
        other = reference.referrer
        other.rule = rename_value(other.rule, "group", old, group.name, load_vocabulary())
        other.save(update_fields=["rule"])
    rename_elsewhere("group", old, group.name)
