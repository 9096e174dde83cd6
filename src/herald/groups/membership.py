"""Keeping stored membership true: for a whole group at once, and for devices that changed.

All of it runs under one lock of the database, so that two writers never decide about the same
group at the same time.
"""

from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING, Any

from django.db import connection, transaction
from django.db.models import BooleanField, CharField, DateTimeField, Exists, IntegerField, OuterRef, QuerySet, Value

from herald.attention.models import Part
from herald.attention.quarantine import Isolation
from herald.db.locks import MEMBERSHIP, take_lock
from herald.fleet.models import Device, MembershipQueueEntry
from herald.fleet.vocabulary import load_records, load_vocabulary
from herald.groups.models import Group, GroupMembership, GroupReference, MembershipEvent
from herald.groups.rule_queries import matching
from herald.groups.rules import parse_saved_rule, predicate_of
from herald.live.notify import notify
from herald_core.rules import Record, Vocabulary

if TYPE_CHECKING:
    from herald.fleet.querysets import DeviceQuerySet


@dataclass(frozen=True, kw_only=True)
class MembershipDiff:
    """How many devices joined and left."""

    joined: int = 0
    left: int = 0


def lock_membership() -> None:
    """Wait for, and hold until the transaction ends, the right to write memberships."""
    take_lock(MEMBERSHIP)


def joining(group: Group | None, wanted: "DeviceQuerySet") -> "DeviceQuerySet":
    """Devices wanted that are not members now."""
    member = GroupMembership.objects.filter(group=group, device_id=OuterRef("pk"))
    return wanted.filter(~Exists(member)) if group else wanted


def leaving(group: Group, wanted: "QuerySet[Device]") -> "QuerySet[GroupMembership]":
    """Memberships of devices that are not wanted any more."""
    return group.memberships.exclude(device_id__in=wanted.order_by().values("pk"))


def set_members(group: Group, wanted: "DeviceQuerySet", *, now: datetime, cause: str) -> MembershipDiff:
    """Make the group's members exactly the wanted devices: one statement to take out, one to put in."""
    with transaction.atomic():
        lock_membership()
        left = _take_out(leaving(group, wanted), now=now, cause=cause)
        joined = _put_in(group, joining(group, wanted), now=now, cause=cause)
        if joined or left:
            notify("group", group.pk)
    return MembershipDiff(joined=joined, left=left)


def _take_out(memberships: "QuerySet[GroupMembership]", *, now: datetime, cause: str) -> int:
    rows = memberships.order_by().values_list(
        "group_id",
        "device_id",
        Value(now, DateTimeField()),
        Value(False, BooleanField()),
        Value(cause, CharField()),
    )
    left = _insert_from(MembershipEvent, ("group_id", "device_id", "at", "joined", "cause"), rows)
    if left:
        memberships.delete()
    return left


def _put_in(group: Group, devices: "QuerySet[Device]", *, now: datetime, cause: str) -> int:
    """INSERT … SELECT of the query that Django compiles: four times as fast as sending the rows."""
    rows = devices.order_by().values_list(
        Value(group.pk, IntegerField()), "pk", Value(now, DateTimeField()), Value(cause, CharField())
    )
    joined = _insert_from(GroupMembership, ("group_id", "device_id", "since", "cause"), rows)
    if joined:
        new = GroupMembership.objects.filter(group=group, since=now, cause=cause).values_list(
            "group_id", "device_id", "since", Value(True, BooleanField()), "cause"
        )
        _insert_from(MembershipEvent, ("group_id", "device_id", "at", "joined", "cause"), new)
    return joined


def _insert_from(model: type[Any], columns: Sequence[str], rows: "QuerySet[Any, Any]") -> int:
    sql, params = rows.query.sql_with_params()
    quote = connection.ops.quote_name
    target = f"{quote(model._meta.db_table)} ({', '.join(map(quote, columns))})"
    with connection.cursor() as cursor:
        cursor.execute(f"INSERT INTO {target} {sql}", params)
        return int(cursor.rowcount)


def _write_events(pairs: Iterable[tuple[int, int]], *, joined: bool, now: datetime, cause: str) -> None:
    MembershipEvent.objects.bulk_create(
        [MembershipEvent(group_id=g, device_id=d, at=now, joined=joined, cause=cause) for g, d in pairs],
        batch_size=5000,
    )


def evaluate_group(group: Group, *, now: datetime, cause: str) -> MembershipDiff:
    """Evaluate a group's whole rule for the whole fleet, and then the groups that refer to it."""
    vocabulary = load_vocabulary()
    with transaction.atomic():
        difference = set_members(
            group, matching(parse_saved_rule(group.rule, vocabulary), vocabulary, now), now=now, cause=cause
        )
        Group.objects.filter(pk=group.pk).update(evaluated_at=now)
        if difference.joined or difference.left:
            follow_references(group, now=now)
    return difference


def look_again(group: Group, *, now: datetime, cause: str) -> None:
    """Evaluate a group whose members change as time passes; where none did, nothing is locked or written but the time
    of the look."""
    vocabulary = load_vocabulary()
    wanted = matching(parse_saved_rule(group.rule, vocabulary), vocabulary, now).order_by()
    members = group.memberships.values_list("device_id", flat=True)
    # two lists of ids, put side by side here: a third of the time of having the database find the difference
    if set(wanted.values_list("pk", flat=True)) == set(members):
        Group.objects.filter(pk=group.pk).update(evaluated_at=now)
    else:
        evaluate_group(group, now=now, cause=cause)


def follow_references(group: Group, *, now: datetime) -> None:
    """Evaluate the groups whose rules refer to this one, in order."""
    for referrer in referrers_in_order([group.pk]):
        vocabulary = load_vocabulary()
        wanted = matching(parse_saved_rule(referrer.rule, vocabulary), vocabulary, now)
        set_members(referrer, wanted, now=now, cause=f"“{group.name}” changed"[:80])


def referrers_in_order(group_ids: Collection[int]) -> list[Group]:
    """All groups that refer to these, directly or not; each after the groups that it refers to."""
    ordered = rule_groups_in_order()
    affected = set(group_ids)
    edges = list(GroupReference.objects.values_list("referrer_id", "referred_id"))
    result = []
    for group in ordered:
        if group.pk not in group_ids and any(r == group.pk and t in affected for r, t in edges):
            affected.add(group.pk)
            result.append(group)
    return result


class CircularReference(Exception):
    """Groups whose rules refer to each other in a circle cannot be evaluated."""


def rule_groups_in_order(isolation: Isolation | None = None) -> list[Group]:
    """All groups by rule, each after the groups that its rule refers to.

    With `isolation`, groups in quarantine are left out, and groups in a circle, which no service lets be made, are
    put there.

    Raises:
        CircularReference: groups refer to each other in a circle, and there is no `isolation`.
    """
    groups = {
        g.pk: g
        for g in Group.objects.by_rule().order_by("pk")
        if isolation is None or not isolation.is_held(Part.GROUP, g.pk)
    }
    needs: dict[int, set[int]] = {pk: set() for pk in groups}
    for referrer, referred in GroupReference.objects.values_list("referrer_id", "referred_id"):
        if referrer in groups and referred in groups:
            needs[referrer].add(referred)
    ordered: list[Group] = []
    while needs:
        ready = sorted(pk for pk, wanted in needs.items() if not wanted)
        if not ready:
            circle = CircularReference(f"groups refer to each other in a circle: {sorted(needs)}")
            if isolation is None:
                raise circle
            for pk in needs:
                isolation.put(Part.GROUP, pk, circle)
            break
        for pk in ready:
            ordered.append(groups[pk])
            del needs[pk]
        for wanted in needs.values():
            wanted.difference_update(ready)
    return ordered


def process_changed_devices(*, now: datetime, most: int = 2000) -> int:
    """Look again at the groups of devices that changed; how many devices there were.

    The marks are removed in the same transaction, so a crash loses none and repeats none. A device that cannot be
    evaluated is put in quarantine and keeps its marks; a group whose rule cannot be evaluated keeps its members.
    """
    isolation = Isolation(now)
    marks = MembershipQueueEntry.objects.first_marks(most, without=isolation.held(Part.DEVICE))

    def work(device_ids: Sequence[int]) -> None:
        lock_membership()
        MembershipQueueEntry.objects.remove([mark for device in device_ids for mark in marks[device]])
        reevaluate(device_ids, now=now, cause="the device changed", isolation=isolation)

    isolation.run_batch(Part.DEVICE, sorted(marks), work)
    isolation.finish()
    return len(marks)


def reevaluate(
    device_ids: Collection[int], *, now: datetime, cause: str, isolation: Isolation | None = None
) -> MembershipDiff:
    """Evaluate every rule for just these devices, in memory, and write what differs.

    With `isolation`, groups in quarantine are left as they are, and one whose rule cannot be read is put there.
    """
    vocabulary = load_vocabulary()
    with transaction.atomic():
        lock_membership()
        groups = rule_groups_in_order(isolation)
        members = _members_by_device(device_ids)
        joins, leaves = _differences(
            _predicates(groups, vocabulary, now, isolation), device_ids, members, vocabulary, now
        )
        _write_differences(joins, leaves, now=now, cause=cause)
        for group_id in sorted({g for g, _ in joins} | {g for g, _ in leaves}):
            notify("group", group_id)
    return MembershipDiff(joined=len(joins), left=len(leaves))


def _members_by_device(device_ids: Collection[int]) -> dict[int, dict[int, str]]:
    """For each device the groups it is in, with their names."""
    result: dict[int, dict[int, str]] = {i: {} for i in device_ids}
    names = dict(Group.objects.values_list("pk", "name"))  # cheaper than a join for every membership
    for device_id, group_id in GroupMembership.objects.of_devices(device_ids).values_list("device_id", "group_id"):
        result[device_id][group_id] = names[group_id]
    return result


Predicates = Sequence[tuple[int, str, Callable[[Record], bool]]]


def _predicates(
    groups: Sequence[Group], vocabulary: Vocabulary, now: datetime, isolation: Isolation | None
) -> Predicates:
    found = []
    for group in groups:
        try:
            found.append((group.pk, group.name, predicate_of(group.rule, vocabulary, now)))
        except Exception as error:  # whatever is wrong with one rule must not keep devices from the other groups
            if isolation is None:
                raise
            isolation.put(Part.GROUP, group.pk, error)
    return found


def _differences(
    predicates: Predicates,
    device_ids: Collection[int],
    members: dict[int, dict[int, str]],
    vocabulary: Vocabulary,
    now: datetime,
) -> tuple[list[tuple[int, int]], list[tuple[int, int]]]:
    joins, leaves = [], []
    for device_id, record in load_records(device_ids, vocabulary, now).items():
        inside = members[device_id]
        names = set(inside.values())
        record["group"] = names  # grows and shrinks as the groups are decided, in their order
        for group_id, name, matches in predicates:
            if matches(record):
                if group_id not in inside:
                    joins.append((group_id, device_id))
                    names.add(name)
            elif group_id in inside:
                leaves.append((group_id, device_id))
                names.discard(name)
    return joins, leaves


def _write_differences(
    joins: list[tuple[int, int]], leaves: list[tuple[int, int]], *, now: datetime, cause: str
) -> None:
    GroupMembership.objects.bulk_create(
        [GroupMembership(group_id=g, device_id=d, since=now, cause=cause) for g, d in joins], batch_size=5000
    )
    _write_events(joins, joined=True, now=now, cause=cause)
    by_group: dict[int, list[int]] = {}
    for group_id, device_id in leaves:
        by_group.setdefault(group_id, []).append(device_id)
    for group_id, devices in by_group.items():
        GroupMembership.objects.filter(group_id=group_id, device_id__any=devices).delete()
    _write_events(leaves, joined=False, now=now, cause=cause)


def refresh_time_groups(*, now: datetime) -> int:
    """Evaluate the groups whose members change as time passes, and those that failed before; how many groups."""
    isolation = Isolation(now)
    failed = isolation.known(Part.GROUP)
    groups = [g for g in rule_groups_in_order(isolation) if g.is_time_dependent or g.pk in failed]
    for group in groups:
        isolation.run(Part.GROUP, group.pk, partial(look_again, group, now=now, cause="time passed"))
    isolation.finish()
    return len(groups)
