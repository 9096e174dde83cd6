"""Verbs on devices: finding one by what people call it."""

from collections.abc import Sequence
from datetime import datetime

from django.db import transaction
from django.db.models import Q

from herald.fleet.models import Admission, Device
from herald.http.errors import Conflict, Invalid, NotFound
from herald.people.models import User
from herald.record.services import record


def find_device(word: str) -> Device:
    """One device: by its id where the word is digits only, else by its name or uid. `id:`, `name:` and `uid:` before
    the word say which is meant.

    Raises:
        NotFound: no such device.
        Ambiguous: one device has it as its name, another as its uid.
    """
    by, what = _told_apart(word, ("id", "name", "uid"))
    if not by and word.isascii() and word.isdigit():
        by = "id"
    if by == "id":
        number = int(what) if what.isascii() and what.isdigit() and len(what) < 18 else 0
        condition = Q(pk=number)
    else:
        condition = Q(**{by: what}) if by else Q(name=what) | Q(uid=what)
    found: list[Device] = list(Device.objects.with_names().filter(condition)[:2])
    if not found:
        hint = f" To find one that is named so, write name:{what[:80]}." if by == "id" else ""
        raise NotFound(f"No device has the {by or 'name or uid'} {what[:80]}.{hint}")
    if len(found) > 1:
        raise Ambiguous(what)
    return found[0]


class Ambiguous(Conflict):
    """A word is the name of one device and the uid of another."""

    code = "ambiguous-device"
    title = "Two devices are meant"

    def __init__(self, word: str) -> None:
        super().__init__(
            f"One device is named {word[:80]}, another has it as its uid. Write name:{word[:80]} or uid:{word[:80]}."
        )


def called(words: Sequence[str]) -> dict[str, int]:
    """Ids of devices by the words that people call them by: a name or uid, with `name:` or `uid:` before it where that
    must be told apart. Digits are a name or uid as well, never an id. Words that no device is called are left out.

    Raises:
        Ambiguous: a word is the name of one device and the uid of another.
    """
    found, two = called_by(words)
    if two:
        raise Ambiguous(two[0])
    return found


def called_by(words: Sequence[str]) -> tuple[dict[str, int], list[str]]:
    """The same, and the words that are the name of one device and the uid of another, which lead to neither."""
    plain = {w: _told_apart(w, ("name", "uid")) for w in words}
    by_name: dict[str, int] = {}
    by_uid: dict[str, int] = {}
    rows = Device.objects.called_any_of(sorted({text for _, text in plain.values()}))
    for name, uid, pk in rows.values_list("name", "uid", "id"):
        by_name[name], by_uid[uid] = pk, pk
    found: dict[str, int] = {}
    two: list[str] = []
    for word, (by, text) in plain.items():
        sources = [by_name] * (by != "uid") + [by_uid] * (by != "name")
        hits = {source[text] for source in sources if text in source}
        if len(hits) > 1:
            two.append(word)
        elif hits:
            found[word] = next(iter(hits))
    return found, two


def _told_apart(word: str, ways: Sequence[str]) -> tuple[str, str]:
    """Which of the ways a word names before its colon, if any, and what it says."""
    how, _, rest = word.partition(":")
    return (how, rest) if rest and how in ways else ("", word)


def ask_to_report(device: Device, *, actor: User | None, now: datetime) -> None:
    """Have the device say everything it knows of itself; it is told at its next check-in.

    Raises:
        Conflict: it is retired or has never enrolled, so it will not call.
    """
    if device.admission == Admission.RETIRED or device.secret_hash is None:
        why = "is retired" if device.admission == Admission.RETIRED else "has not enrolled yet"
        raise Conflict(f"{device.name} {why}, so it cannot be asked.")
    with transaction.atomic():
        Device.objects.filter(pk=device.pk, report_asked_at=None).update(report_asked_at=now)
        sentence = f"Asked {device.name} to report at its next check-in"
        record(now=now, actor=actor, kind="device", object_id=device.pk, sentence=sentence)


def ask_all_to_report(devices: Sequence[int], *, actor: User | None, now: datetime) -> int:
    """Have devices say everything they know of themselves, each at its next check-in; how many were asked. Retired ones
    and those that never enrolled are passed over: they do not call."""
    with transaction.atomic():
        asked = (
            Device.objects.by_ids(devices)
            .exclude(admission=Admission.RETIRED)
            .filter(secret_hash__isnull=False, report_asked_at=None)
            .update(report_asked_at=now)
        )
        sentence = f"Asked {asked} devices to report at their next check-in"
        record(now=now, actor=actor, kind="device", object_id=0, sentence=sentence)
    return asked


def find_devices(words: Sequence[str]) -> tuple[list[Device], list[str]]:
    """Devices by name or uid in the order of the words, and the words that no device is called.

    Raises:
        Ambiguous: a word is the name of one device and the uid of another.
    """
    found = called(words)
    devices = {d.pk: d for d in Device.objects.with_names().by_ids(list(found.values()))}
    ids = dict.fromkeys(found[w] for w in words if w in found)
    return [devices[i] for i in ids if i in devices], [w for w in words if w not in found]


def device_ids(words: Sequence[str], pointer: str) -> list[int]:
    """The ids of devices by name or uid.

    Raises:
        Invalid: some are unknown; with their names.
        Ambiguous: a word is the name of one device and the uid of another.
    """
    found = called(words)
    unknown = [w for w in words if w not in found]
    if unknown:
        more = f" and {len(unknown) - 10} more" if len(unknown) > 10 else ""
        raise Invalid(pointer, f"No device is called {', '.join(unknown[:10])}{more}.", unknown=unknown)
    return [found[w] for w in words]
