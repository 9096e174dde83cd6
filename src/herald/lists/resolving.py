"""From the entries of a list to devices, and why an entry leads to none."""

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, field
from typing import TypeVar

from herald.fleet.models import Admission, Custodian, Device
from herald.fleet.services import called_by
from herald.groups.models import Group, GroupMembership
from herald.lists.models import Names

_T = TypeVar("_T")
#: how many of what is left out are kept, to be shown
MOST_SHOWN = 500
#: asked of the database at once
_PIECE = 20_000


@dataclass(kw_only=True)
class Resolved:
    """Devices that a list names, each with the entry that does, and entries that lead to none, each with why."""

    entries: int
    names: str
    named: dict[int, str] = field(default_factory=dict)
    left_out: list[dict[str, str]] = field(default_factory=list)

    @property
    def devices(self) -> set[int]:
        return set(self.named)

    def leave_out(self, entry: str, why: str) -> None:
        self.left_out.append({"entry": entry, "why": why})

    def leave_out_refused(self, group: Group) -> None:
        """Leave out the devices that the group cannot take as it is now."""
        for device, (name, why) in _refused(group, self.named).items():
            # a person may answer for a hundred retired devices: each is told of by its own name
            self.leave_out(name if self.names == Names.PEOPLE else self.named[device], why)
            del self.named[device]


def resolve(entries: Sequence[str], names: str, group: Group) -> Resolved:
    """The devices that entries name, by their names and uids, or by who answers for them. Left out are those that are
    retired, of another model than the group is kept to, or in another group of its family."""
    found = Resolved(entries=len(entries), names=names)
    found.named = _of_people(entries, found) if names == Names.PEOPLE else _of_devices(entries, found)
    found.leave_out_refused(group)
    return found


def _of_devices(entries: Sequence[str], found: Resolved) -> dict[int, str]:
    named: dict[int, str] = {}
    for part in _pieces(entries):
        known, two = called_by(part)
        both = set(two)
        for entry in part:
            if entry in both:
                found.leave_out(entry, "is the name of one device and the uid of another")
            elif entry not in known:
                found.leave_out(entry, "is the name or uid of no device")
            else:
                named.setdefault(known[entry], entry)
    return named


def _of_people(entries: Sequence[str], found: Resolved) -> dict[int, str]:
    people: dict[str, list[int]] = {}
    for pk, name, email in Custodian.objects.values_list("pk", "name", "email"):
        for word in {name.casefold(), email.casefold()}:
            people.setdefault(word, []).append(pk)
    asked: dict[int, str] = {}
    for entry in entries:
        custodians = people.get(entry.casefold(), [])
        if not custodians:
            found.leave_out(entry, "is the name or address of nobody who answers for devices")
        for pk in custodians:
            asked.setdefault(pk, entry)
    named: dict[int, str] = {}
    answer_for: set[int] = set()
    for part in _pieces(list(asked)):
        rows = Device.objects.filter(custodian_id__in=part).order_by("pk").values_list("pk", "custodian_id")
        for device, custodian in rows:
            named[device] = asked[custodian]
            answer_for.add(custodian)
    for pk, entry in asked.items():
        if pk not in answer_for:
            found.leave_out(entry, "answers for no device")
    return named


def _refused(group: Group, devices: Collection[int]) -> dict[int, tuple[str, str]]:
    """Devices that the group cannot take, each with its name and why."""
    refused: dict[int, tuple[str, str]] = {}
    for part in _pieces(sorted(devices)):
        rows = Device.objects.by_ids(part)
        if group.family_id is not None:
            elsewhere = GroupMembership.objects.of_devices(part).in_family(group.family_id).exclude(group=group)
            for pk, name, other in elsewhere.values_list("device_id", "device__name", "group__name"):
                refused[pk] = (name, f"is in “{other}”, and in one group of the family only")
        if group.only_model_id is not None:
            others = rows.exclude(model=group.only_model_id)
            for pk, name, model in others.values_list("pk", "name", "model__name"):
                refused[pk] = (name, f"is of the model {model}, and the group takes {group.only_model} only")
        for pk, name in rows.filter(admission=Admission.RETIRED).values_list("pk", "name"):
            refused[pk] = (name, "is retired")
    return refused


def _pieces(of: Sequence[_T]) -> Iterable[Sequence[_T]]:
    return (of[i : i + _PIECE] for i in range(0, len(of), _PIECE))
