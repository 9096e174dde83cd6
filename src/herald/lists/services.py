"""Verbs on the lists that groups follow: look at one, follow it, read it again, follow it no longer.

A list changes a group as any person does, behind the same gate (`groups.consequences`). Where nobody is there to be
asked, a reading that would reach something running waits for somebody to agree, and so does one that would take out
most of the group: a list that is suddenly short is more often a fault elsewhere than a decision.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

import structlog
from django.db import transaction

from herald.attention.models import Item, ItemKind
from herald.attention.services import close_item, open_item
from herald.fleet.models import Device
from herald.groups.consequences.acceptance import Agreement, Consequences, consequences_of, gated
from herald.groups.membership import MembershipDiff, follow_references, lock_membership, set_members
from herald.groups.models import Group, GroupKind, MembershipEvent
from herald.http.errors import Conflict, Invalid
from herald.http.outbound import FetchError, fetch, in_turn, settled_authorization, without_secrets
from herald.imports.reading import Unreadable
from herald.lists.entries import MOST_BYTES, read_entries
from herald.lists.models import FollowedList, Names
from herald.lists.resolving import MOST_SHOWN, Resolved, resolve
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record

ACCEPT = "application/json, text/csv, text/plain;q=0.8, */*;q=0.1"
#: why devices joined and left where nobody was asked
CAUSE = "its list changed"
#: a reading that would take out more than this share of the members, and more than so many, is agreed to by a person
MOST_LEAVING, FEW = 0.5, 3
#: it is an item of attention once it failed so often in a row
FAILURES = 3
DAY = timedelta(days=1)
log = structlog.get_logger(__name__)


@dataclass(frozen=True, kw_only=True)
class ListDraft:
    """A list as it is written down. An `authorization` of None keeps the one there is, while the address is of the same
    host."""

    url: str
    authorization: str | None = None
    names: str = Names.DEVICES.value
    pointer: str = ""
    column: str = ""
    read_every_minutes: int = 60
    unasked_a_day: int = 0


@dataclass(frozen=True, kw_only=True)
class Look:
    """What following a list as it is now would do to its group."""

    resolved: Resolved
    joining: list[int]
    leaving: list[int]
    members: int

    @property
    def is_most(self) -> bool:
        """Whether so many would leave that a person has to agree to just that."""
        return is_most(len(self.leaving), of=self.members, joins=len(self.joining))


def is_most(leaves: int, *, of: int, joins: int) -> bool:
    """Whether so many of the members would leave that a person has to agree to just that: most of them, or all with
    nobody in their place."""
    return (leaves > FEW and leaves > MOST_LEAVING * of) or (leaves == of > 0 and not joins)


class MostLeave(Conflict):
    """A reading would take out most of the group, and nobody agreed to that number."""

    code = "most-leave"
    title = "Most of the group would leave"


def keeper_of(group: Group) -> str | None:
    """What a group follows, as it stands within a sentence."""
    url = FollowedList.objects.filter(group=group).values_list("url", flat=True).first()
    return f"the list at {without_secrets(url)}" if url else None


def look_at(draft: ListDraft, group: Group) -> Look:
    """What following a list would do; nothing is kept.

    Raises:
        Invalid: it cannot be read, with why.
        Conflict: the group is by rule.
    """
    _check_static(group)
    found = _read_for_somebody(_settled(draft, FollowedList.objects.filter(group=group).first()), group)
    members = set(group.memberships.device_ids())
    return Look(
        resolved=found,
        joining=sorted(found.devices - members),
        leaving=sorted(members - found.devices),
        members=len(members),
    )


def follow_list(
    draft: ListDraft,
    group: Group,
    *,
    actor: User,
    now: datetime,
    leaving: int | None = None,
    agreement: Agreement | None = None,
) -> FollowedList:
    """Let a static group follow a list from now on, or another one; its members are at once those who stand in it.

    Raises:
        Invalid: it cannot be read, with why.
        Conflict: the group is by rule.
        MostLeave: most of the members would leave, and more than the `leaving` that were agreed to.
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    _check_static(group)
    known = FollowedList.objects.filter(group=group).first()
    settled = _settled(draft, known)
    found = _read_for_somebody(settled, group)
    with gated(agreement, now=now):
        group = Group.objects.select_for_update(of=("self",)).get(pk=group.pk)
        _check_static(group)
        kept = FollowedList.objects.select_for_update().filter(group=group).first() or FollowedList(group=group)
        told = (
            f"Changed the list that “{group.name}” follows to" if kept.pk else f"Let “{group.name}” follow the list at"
        )
        kept.created_by = kept.created_by or actor
        kept.url, kept.authorization = settled.url, settled.authorization or ""
        kept.names, kept.pointer, kept.column = settled.names, settled.pointer, settled.column
        kept.read_every_minutes, kept.unasked_a_day = settled.read_every_minutes, settled.unasked_a_day
        difference = _apply(kept, found, now=now, by=actor, leaving=leaving or 0)
        sentence = f"{told} {without_secrets(kept.url)}: {_words(difference)}"
        record(now=now, actor=actor, kind="group", object_id=group.pk, sentence=sentence[:300])
    return kept


def read_now(
    followed: FollowedList,
    *,
    actor: User,
    now: datetime,
    leaving: int | None = None,
    agreement: Agreement | None = None,
) -> FollowedList:
    """Read a list whenever it is due, for somebody who agrees to what it does. One that cannot be read changes nobody,
    and says why.

    Raises:
        MostLeave, NotAgreed: as `follow_list` does.
    """

    def apply(kept: FollowedList, found: Resolved) -> None:
        with gated(agreement, now=now):
            difference = _apply(kept, found, now=now, by=actor, leaving=leaving or 0)
            sentence = f"Read the list of “{kept.group.name}”: {_words(difference)}"
            record(now=now, actor=actor, kind="group", object_id=kept.group_id, sentence=sentence[:300])

    return _read(followed, apply, now=now, only_asks=agreement is not None and agreement.dry_run)


def read_due(*, now: datetime) -> int:
    """Read the lists that are due, one after another; how many are. One that fails keeps no other waiting for longer
    than its own time limit, and what is left after a while is read in the next turn."""
    due = list(FollowedList.objects.due(now).select_related("group", "group__only_model"))
    of_groups = Item.objects.open().of_kinds([ItemKind.FOLLOWED_LIST]).filter(object_kind="group")
    for item in of_groups.exclude(object_id__in=FollowedList.objects.values("group")):  # the group was deleted
        close_item(ItemKind.FOLLOWED_LIST, object_kind="group", object_id=item.object_id, now=now)
    for followed in in_turn(due):
        try:
            read_by_itself(followed, now=now)
        except Exception:
            log.exception("list_not_read", list=followed.pk)
            message = "The server failed as it read this; its log says how."
            FollowedList.objects.filter(pk=followed.pk).update(tried_at=now, last_error=message)
    return len(due)


def read_by_itself(followed: FollowedList, *, now: datetime) -> FollowedList:
    """Read a list because its time has come. What it says is done where nothing that runs is reached, or as many
    devices a day as was allowed; otherwise it waits for somebody to agree."""

    def apply(kept: FollowedList, found: Resolved) -> None:
        try:
            with transaction.atomic():
                difference = _apply(kept, found, now=now)
                if difference.joined or difference.left:
                    sentence = f"“{kept.group.name}” followed its list: {_words(difference)}"
                    record(now=now, actor=None, kind="group", object_id=kept.group_id, sentence=sentence[:300])
        except _Waits as waits:
            _keep_waiting(kept, found, waits, now=now)

    return _read(followed, apply, now=now)


def stop_following(followed: FollowedList, *, actor: User, now: datetime) -> None:
    """Let a group follow its list no longer: it keeps the members of now, who are picked by hand from then on."""
    with transaction.atomic():
        lock_membership()
        kept = FollowedList.objects.select_for_update(of=("self",)).select_related("group").get(pk=followed.pk)
        group = kept.group
        count = group.memberships.count()
        sentence = (
            f"“{group.name}” follows the list at {without_secrets(kept.url)} no longer, and keeps its {count} devices"
        )
        record(now=now, actor=actor, kind="group", object_id=group.pk, sentence=sentence[:300])
        kept.delete()
        close_item(ItemKind.FOLLOWED_LIST, object_kind="group", object_id=group.pk, now=now)
        notify("group", group.pk)


class _Waits(Exception):
    """What a list says is not done before somebody agrees."""

    def __init__(self, words: str, difference: MembershipDiff) -> None:
        super().__init__(words)
        self.difference = difference


def _check_static(group: Group) -> None:
    if group.kind != GroupKind.STATIC:
        raise Conflict(f"“{group.name}” is by rule; only a static group follows a list.")


def _settled(draft: ListDraft, known: FollowedList | None) -> ListDraft:
    """The draft with the authorization that its address is asked with."""
    return replace(draft, authorization=settled_authorization(draft.authorization, draft.url, known))


def _resolved(followed: FollowedList | ListDraft, group: Group) -> Resolved:
    """What stands at the address now, as devices.

    Raises:
        FetchError, Unreadable: it cannot be read.
    """
    body = fetch(followed.url, most_bytes=MOST_BYTES, accept=ACCEPT, authorization=followed.authorization or "").body
    return resolve(read_entries(body, pointer=followed.pointer, column=followed.column), followed.names, group)


def _read_for_somebody(draft: ListDraft, group: Group) -> Resolved:
    try:
        return _resolved(draft, group)
    except FetchError as error:
        raise Invalid("/url", str(error)) from error
    except Unreadable as error:
        # about what the column or the place is, which stand beside each other
        raise Invalid("/column", str(error)) from error


def _read(
    followed: FollowedList, apply: Callable[[FollowedList, Resolved], None], *, now: datetime, only_asks: bool = False
) -> FollowedList:
    """Read a list, apply what it says, and note how that went."""
    error, found = "", None
    try:
        found = _resolved(followed, followed.group)
    except (FetchError, Unreadable) as failed:
        error = str(failed)
        if only_asks:
            raise Invalid("/url", error) from failed
    with transaction.atomic():
        lock_membership()
        rows = FollowedList.objects.select_for_update(of=("self",)).select_related("group", "group__only_model")
        kept: FollowedList | None = rows.filter(pk=followed.pk).first()
        if kept is None or _place(kept) != _place(followed):
            return followed  # followed no longer, or another one, by now
        if found is None:
            _note_failure(kept, error, now=now)
        else:
            apply(kept, found)
        notify("group", kept.group_id)
    return kept


def _place(followed: FollowedList) -> tuple[str, str, str, str]:
    """What says which entries are read, and what they name."""
    return followed.url, followed.names, followed.pointer, followed.column


def _note_failure(kept: FollowedList, error: str, *, now: datetime) -> None:
    kept.tried_at, kept.last_error, kept.failures = now, error[:300], kept.failures + 1
    kept.save(update_fields=["tried_at", "last_error", "failures"])
    if kept.failures >= FAILURES and kept.waits_since is None:
        cause = f"The list of “{kept.group.name}” could not be read {kept.failures} times: {error}"
        open_item(ItemKind.FOLLOWED_LIST, object_kind="group", object_id=kept.group_id, cause=cause, now=now)


def _apply(
    kept: FollowedList, found: Resolved, *, now: datetime, by: User | None = None, leaving: int = 0
) -> MembershipDiff:
    """Make the members those who were found, under the lock of membership, and keep what was read.

    Raises:
        MostLeave: most of the members would leave, and the person that it is done `by` agreed to fewer.
        _Waits: it is done by nobody, and somebody has to agree.
    """
    group = kept.group
    lock_membership()
    found.leave_out_refused(group)  # what was true as the list was read may be so no more
    newest = MembershipEvent.objects.newest_id()
    members = group.memberships.count()
    cause = f"its list, as {by} read it"[:80] if by else CAUSE
    difference = set_members(group, Device.objects.by_ids(found.devices), now=now, cause=cause)
    if is_most(difference.left, of=members, joins=difference.joined) and difference.left > leaving:
        words = f"{difference.left} of the {members} devices of “{group.name}” would leave"
        if by:
            raise MostLeave(f"{words}. Agree to that number to go on.", leaves=difference.left, members=members)
        raise _Waits(words, difference)
    if difference.joined or difference.left:
        follow_references(group, now=now)
        if by is None:
            consequences = consequences_of(MembershipEvent.objects.differences_since(newest))
            _check_allowed(kept, consequences, difference, now=now)
    kept.waits_since, kept.joins, kept.leaves, kept.waits_for = None, 0, 0, ""
    _keep_read(kept, found, now=now)
    close_item(ItemKind.FOLLOWED_LIST, object_kind="group", object_id=group.pk, now=now)
    notify("group", group.pk)
    return difference


def _check_allowed(kept: FollowedList, set_off: Consequences, difference: MembershipDiff, *, now: datetime) -> None:
    if not set_off.uses:
        return
    today = MembershipEvent.objects.filter(group=kept.group, at__gt=now - DAY, cause=CAUSE).count()
    if today > kept.unasked_a_day:  # these are among them
        uses = "; ".join(u.use.sentence for u in set_off.uses[:3])
        raise _Waits(f"What follows “{kept.group.name}” would reach other devices: {uses}", difference)


def _keep_waiting(kept: FollowedList, found: Resolved, waits: _Waits, *, now: datetime) -> None:
    kept.waits_since = kept.waits_since or now
    kept.joins, kept.leaves = waits.difference.joined, waits.difference.left
    kept.waits_for = str(waits)[:300]
    _keep_read(kept, found, now=now)
    cause = f"The list of “{kept.group.name}” waits for somebody to agree: {kept.joins} to join, {kept.leaves} to leave"
    open_item(ItemKind.FOLLOWED_LIST, object_kind="group", object_id=kept.group_id, cause=cause, now=now)


def _keep_read(kept: FollowedList, found: Resolved, *, now: datetime) -> None:
    kept.tried_at = kept.read_at = now
    kept.last_error, kept.failures = "", 0
    kept.entries, kept.found = found.entries, len(found.devices)
    kept.left_out_count, kept.left_out = len(found.left_out), found.left_out[:MOST_SHOWN]
    kept.save()


def _words(difference: MembershipDiff) -> str:
    return f"{difference.joined} joined, {difference.left} left"
