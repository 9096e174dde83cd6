"""How firings went: answers put together, shares of what was done in time, devices that miss again and again."""

from collections import Counter
from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import Q

from herald.commands.models import Detail, Occurrence, Output, Schedule
from herald.commands.outputs import text_of
from herald.commands.tallies import phases_kept
from herald.deliveries.models import Delivery
from herald.groups.models import Folder, Group, GroupKind
from herald.groups.names import names_of_devices
from herald.groups.services import create_group
from herald.http.errors import Invalid, NobodyThere
from herald.people.models import User
from herald_core.answers import AnswerGroup, Outcome, grouped
from herald_core.deliveries import OPEN, Phase

#: how far back shares are counted
SHARES_OF = timedelta(days=30)
#: a device misses repeatedly if it missed so many firings in a row
IN_A_ROW = 2
MOST_MISSING, FIRINGS_LOOKED_AT = 100, 10


def answers_of(schedule: Schedule, occurrences: Collection[int]) -> list[AnswerGroup]:
    """The answers of some of its firings, put together."""
    whole = Occurrence.objects.filter(pk__in=occurrences, detail=Detail.WHOLE).values_list("pk", flat=True)
    rows = Delivery.objects.outcomes(schedule.pk, list(whole))
    return grouped(Outcome(device=d, phase=p, answer=a, error=e) for d, p, a, e in rows)


def deleted_answers(occurrences: Collection[int]) -> int:
    """Of how many devices the answers to these firings were deleted."""
    short = Occurrence.objects.filter(pk__in=occurrences).exclude(detail=Detail.WHOLE)
    return sum(phases_kept(o).total() for o in short)


def devices_with(schedule: Schedule, occurrences: Collection[int], keys: Collection[str]) -> list[int]:
    """The devices whose answers are in these groups."""
    return sorted({d for g in answers_of(schedule, occurrences) if g.key in keys for d in g.devices})


def group_of_answers(
    schedule: Schedule,
    occurrences: Collection[int],
    keys: Collection[str],
    *,
    name: str,
    folder: Folder | None,
    actor: User,
    now: datetime,
) -> Group:
    """A static group of the devices that gave these answers.

    Raises:
        NobodyThere: no device gave them.
        Invalid: the name is taken or empty.
    """
    devices = devices_with(schedule, occurrences, keys)
    if not devices:
        raise NobodyThere("No device gave these answers.")
    with transaction.atomic():
        note = f"Answers to command {schedule.pk}: {', '.join(sorted(keys))}"[:300]
        return create_group(
            name=name, kind=GroupKind.STATIC, note=note, folder=folder, device_ids=devices, actor=actor, now=now
        )


@dataclass(frozen=True, kw_only=True)
class Shares:
    """How the devices of the firings of the last days ended; `open` ones have not."""

    devices: int
    done: int
    late: int
    failed: int
    missed: int
    left: int
    open: int


def shares_of(schedule: Schedule, now: datetime) -> Shares:
    """How many devices did it in time, late, failed or missed it, of the firings of the last 30 days."""
    counts: Counter[str] = Counter()
    for phase, is_late, n in Delivery.objects.ends_since(schedule.pk, now - SHARES_OF):
        if phase == Phase.CONFIRMED:
            counts["late" if is_late else "done"] += n
        elif phase in (Phase.FAILED, Phase.EXPIRED):
            counts["failed" if phase == Phase.FAILED else "missed"] += n
        else:
            counts["open" if phase in OPEN else "left"] += n
    return Shares(
        devices=counts.total(), **{k: counts[k] for k in ("done", "late", "failed", "missed", "left", "open")}
    )


def repeated_misses(schedule: Schedule) -> list[dict[str, Any]]:
    """Devices that missed their last firings, two or more in a row: the longest rows first."""
    times = list(Occurrence.objects.latest_times(schedule.pk, FIRINGS_LOOKED_AT))
    by_time = {t: n for n, t in enumerate(times)}
    rows: dict[int, list[tuple[int, str]]] = {}
    for device, local_time, phase in Delivery.objects.phases_of_times(schedule.pk, times):
        rows.setdefault(device, []).append((by_time[local_time], phase))
    missed = {}
    for device, ended in rows.items():
        in_a_row = 0
        for _, phase in sorted(ended):
            if phase in OPEN and in_a_row == 0:
                continue  # the latest may still be done
            if phase != Phase.EXPIRED:
                break
            in_a_row += 1
        if in_a_row >= IN_A_ROW:
            missed[device] = in_a_row
    longest = sorted(missed, key=lambda d: (-missed[d], d))[:MOST_MISSING]
    names = names_of_devices(longest)
    return [{"id": d, "name": names[d], "in_a_row": missed[d]} for d in longest if d in names]


def with_output(delivery_ids: Collection[int]) -> set[int]:
    """Those of the deliveries whose devices sent an output in pieces."""
    return set(Output.objects.filter(delivery__in=list(delivery_ids)).values_list("delivery_id", flat=True))


def output_of(delivery: Delivery) -> tuple[Output | None, str]:
    """What came of a command on one device: the output that was sent in pieces, or what the report held itself."""
    found = Output.objects.filter(delivery=delivery).select_related("device", "delivery__occurrence").first()
    if found is not None:
        return found, text_of(found)
    said = delivery.results.get("output") if isinstance(delivery.results, dict) else None
    return None, said if isinstance(said, str) else ""


def output_before(delivery: Delivery) -> Delivery | None:
    """The delivery by which the same device gave an output of the same command the time before."""
    if delivery.occurrence is None:
        return None
    found: Delivery | None = (
        Delivery.objects.filter(device=delivery.device_id, pk__lt=delivery.pk)
        .filter(occurrence__template__key=delivery.occurrence.template_id)
        .filter(Q(output__isnull=False) | Q(results__has_key="output"))
        .order_by("-pk")
        .first()
    )
    return found


def read_occurrences(schedule: Schedule, text: str | None) -> list[int]:
    """The firings that a query names by their ids, separated by commas; all that were at the latest time where it names
    none.

    Raises:
        Invalid: one is no firing of this schedule.
    """
    if not text:
        latest = Occurrence.objects.latest_of(schedule.pk)
        return [] if latest is None else Occurrence.objects.with_time_of(latest)
    words = [w for w in text.split(",") if w][:500]
    ids = [int(w) for w in words if w.isascii() and w.isdigit() and len(w) <= 18]
    found = Occurrence.objects.filter(schedule=schedule, pk__in=ids).count()
    if len(ids) != len(words) or found != len(set(ids)):
        raise Invalid("/occurrence", "Firings are named by their ids, and are of this command.")
    return ids
