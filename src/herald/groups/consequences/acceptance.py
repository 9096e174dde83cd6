"""The one gate before whatever changes who is in which group: nothing that runs gets another audience than somebody
agreed to.

Each change of devices, rules or members computes who would join and leave which groups and what follows those groups
(open rollouts, schedules, freezes), and `require` refuses it until those numbers are sent back. The list of the doors
at which it stands is in docs/membership.md.
"""

import re
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from django.db import transaction

from herald.fleet.models import Admission, MembershipQueueEntry
from herald.groups.membership import lock_membership, reevaluate
from herald.groups.models import Group, GroupMembership, MembershipEvent
from herald.groups.references import Reference, direct_uses
from herald.http.errors import Conflict, DryRun

#: numbers may have grown by this share since they were agreed to; below a hundred by none
GROWTH = 0.01
ADMITTED = Admission.ADMITTED.value
_USE = re.compile(r"([a-z-]{1,20}):(\d{1,18})\+(\d{1,9})-(\d{1,9})\Z", re.ASCII)


@dataclass(frozen=True, kw_only=True)
class Agreement:
    """What somebody who asks for a change has agreed to. `digest` is that of the consequences that were shown;
    `dry_run` asks for the consequences only."""

    digest: str = ""
    dry_run: bool = False


@dataclass(frozen=True, kw_only=True)
class GroupDifference:
    """How many devices would join and leave a group."""

    group: Group
    joins: int
    leaves: int


@dataclass(kw_only=True)
class UseEffect:
    """Something that follows groups, and how many devices would join and leave by those."""

    use: Reference
    joins: int = 0
    leaves: int = 0


@dataclass(frozen=True, kw_only=True)
class Consequences:
    """What a change does to groups, and through them to what runs."""

    groups: list[GroupDifference] = field(default_factory=list)
    uses: list[UseEffect] = field(default_factory=list)

    @property
    def digest(self) -> str:
        """Each use with its joins and leaves, as it is sent back to agree."""
        return ",".join(sorted(f"{u.use.kind}:{u.use.id}+{u.joins}-{u.leaves}" for u in self.uses))

    def as_json(self) -> dict[str, Any]:
        """As the API shows them."""
        return {
            "groups": [
                {"id": d.group.pk, "name": d.group.name, "joins": d.joins, "leaves": d.leaves} for d in self.groups
            ],
            "uses": [
                {"kind": u.use.kind, "id": u.use.id, "sentence": u.use.sentence, "joins": u.joins, "leaves": u.leaves}
                for u in self.uses
            ],
            "digest": self.digest,
        }


class NotAgreed(Conflict):
    """What runs would reach other devices, and nobody agreed to these numbers."""

    code = "consequences-not-agreed"
    title = "This changes whom something running reaches"


def consequences_of(differences: Iterable[tuple[Group, int, int]]) -> Consequences:
    """What joins and leaves of groups set off. Groups without any are left out."""
    groups = [GroupDifference(group=g, joins=j, leaves=v) for g, j, v in differences if j or v]
    effects: dict[tuple[str, int], UseEffect] = {}
    for difference in groups:
        for use in direct_uses(difference.group):
            if use.follows:
                effect = effects.setdefault((use.kind, use.id), UseEffect(use=use))
                effect.joins += difference.joins
                effect.leaves += difference.leaves
    return Consequences(groups=groups, uses=list(effects.values()))


def admission_differences(before: Mapping[int, str], after: Mapping[int, str]) -> list[tuple[Group, int, int]]:
    """Groups whose devices become admitted, or are so no more: what follows a group reaches its admitted devices only.

    Both hold the admission of devices by their id.
    """
    gained = [pk for pk, admission in after.items() if admission == ADMITTED != before.get(pk)]
    lost = [pk for pk, admission in before.items() if admission == ADMITTED != after.get(pk)]
    return GroupMembership.objects.counts_by_group(gained, lost)


def require(consequences: Consequences, agreement: Agreement | None) -> None:
    """Let a change go on only where its consequences were agreed to. Call it within the change's transaction.

    None as the agreement is the system itself, whose changes nobody can be asked about.

    Raises:
        NotAgreed: something that runs would reach other devices than was agreed to; with the consequences.
        DryRun: only the consequences were asked for.
    """
    if agreement is None:
        return
    if agreement.dry_run:
        raise DryRun(consequences.as_json())
    if consequences.uses and not _covers(agreement.digest, consequences):
        words = "; ".join(
            f"{u.use.sentence}: {u.joins} would join, {u.leaves} would leave" for u in consequences.uses[:5]
        )
        raise NotAgreed(f"{words}. Agree to these numbers to go on.", **consequences.as_json())


def _covers(digest: str, consequences: Consequences) -> bool:
    """Whether a digest agrees to these: no use is new, and no number grew by more than a hundredth."""
    agreed = _read(digest)
    for effect in consequences.uses:
        known = agreed.get((effect.use.kind, effect.use.id))
        if known is None or effect.joins > _most(known[0]) or effect.leaves > _most(known[1]):
            return False
    return True


def _read(digest: str) -> Mapping[tuple[str, int], tuple[int, int]]:
    found = {}
    for part in digest.split(","):
        match = _USE.match(part)
        if match:
            found[match[1], int(match[2])] = (int(match[3]), int(match[4]))
    return found


def _most(number: int) -> int:
    return number if number < 100 else int(number * (1 + GROWTH))


@contextmanager
def gated(
    agreement: Agreement | None, *, now: datetime, cause: str = "the device changed"
) -> Iterator[list[tuple[Group, int, int]]]:
    """Do a change of members, rules or devices, and undo it unless its consequences were agreed to.

    Devices that the change marks are evaluated at once, so that what it does to groups is counted and not guessed.
    Differences that no change of membership shows, as of devices that are admitted or removed, are put into the list
    that is given.

    Raises:
        NotAgreed, DryRun: as `require` does; nothing was changed then.
    """
    with transaction.atomic():
        lock_membership()
        newest = MembershipEvent.objects.newest_id()
        more: list[tuple[Group, int, int]] = []
        with MembershipQueueEntry.objects.captured() as marked:
            yield more
        if marked:
            reevaluate(sorted(marked), now=now, cause=cause)
        require(consequences_of([*MembershipEvent.objects.differences_since(newest), *more]), agreement)
