"""Everything that is kept for a while and then deleted: what goes, what stays of it, and which room deletes it."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from django.db import connection

from herald.attention import retention as attention
from herald.commands import retention as commands
from herald.edits import retention as edits
from herald.fleet.models import Device
from herald.groups import retention as groups
from herald.imports import retention as imports
from herald.notifications import retention as notifications
from herald.record import retention as record
from herald.retention.models import KeptKind
from herald.retention.totals import Save
from herald.rollouts import retention as rollouts


@dataclass(frozen=True, kw_only=True)
class Kind:
    """`days` is how long it is kept in a new installation, None for ever; `least` is what the program itself needs.
    `unit` is what is counted, one and many. `tables` are those whose size on disk it has."""

    key: str
    name: str
    goes: str
    stays: str
    unit: tuple[str, str]
    days: int | None
    least: int
    tables: tuple[str, ...]
    oldest: Callable[[], datetime | None]
    count: Callable[[datetime], int]
    #: deletes at most so many of those before a moment, each at an end of its own; how many were, 0 at the end
    delete: Callable[[datetime, int, Save], int]

    def counted(self, number: int) -> str:
        """So many, in words."""
        return f"{number:,} {self.unit[0] if number == 1 else self.unit[1]}"


_ALL = (
    Kind(
        key=commands.KEY,
        name="Answers to commands",
        goes="What each device answered to a firing, with its output and its steps",
        stays="How many devices ended how, by site, group and time zone; the last firings of what goes on",
        unit=("answer", "answers"),
        days=90,
        least=40,  # the shares of the last 30 days are counted from them
        tables=("commands_output", "deliveries_delivery"),
        oldest=commands.oldest_answer,
        count=commands.count_answers,
        delete=commands.delete_answers,
    ),
    Kind(
        key=rollouts.KEY,
        name="Steps in rollouts",
        goes="Each step of each device in a rollout that ended: offered, fetching, installing and so on",
        stays="How each device ended and why; progress, failed attempts and how long it took, of the rollout",
        unit=("step", "steps"),
        days=400,
        least=30,
        tables=("deliveries_deliveryevent",),
        oldest=rollouts.oldest_steps,
        count=rollouts.count_steps,
        delete=rollouts.delete_steps,
    ),
    Kind(
        key=groups.KEY,
        name="Joins and leaves",
        goes="When each device joined and left each group, and why",
        stays="How many joined and left each group a day; who is in it now",
        unit=("event", "events"),
        days=400,
        least=60,  # the curve of a group's size goes back a month
        tables=("groups_membershipevent",),
        oldest=groups.oldest_event,
        count=groups.count_events,
        delete=groups.delete_events,
    ),
    Kind(
        key=attention.KEY,
        name="Attention items that are over",
        goes="Items that were closed, with the messages about them",
        stays="How many of each kind were closed a day",
        unit=("item", "items"),
        days=730,
        least=90,
        tables=("attention_item",),
        oldest=attention.oldest_item,
        count=attention.count_items,
        delete=attention.delete_items,
    ),
    Kind(
        key=notifications.KEY,
        name="Messages",
        goes="Messages to people and to other systems, and each try at sending them",
        stays="The attention items that they were about",
        unit=("message", "messages"),
        days=180,
        least=30,
        tables=("notifications_message", "notifications_attempt"),
        oldest=notifications.oldest_message,
        count=notifications.count_messages,
        delete=notifications.delete_messages,
    ),
    Kind(
        key=edits.KEY,
        name="Edits",
        goes="What each edit changed on each device, by which it can be undone",
        stays="The sentence in the record",
        unit=("edit", "edits"),
        days=400,
        least=30,
        tables=("edits_edit", "edits_editeddevice"),
        oldest=edits.oldest_edit,
        count=edits.count_edits,
        delete=edits.delete_edits,
    ),
    Kind(
        key=imports.KEY,
        name="Imports",
        goes="Imported files, and what they changed on each device, by which they can be undone",
        stays="The devices, and the sentence in the record",
        unit=("import", "imports"),
        days=400,
        least=30,
        tables=("imports_import", "imports_importeddevice", "imports_cellerror"),
        oldest=imports.oldest_import,
        count=imports.count_imports,
        delete=imports.delete_imports,
    ),
    Kind(
        key=record.KEY,
        name="The record",
        goes="Who did what, the oldest first",
        stays="The hash of the last entry that went, from which the others are chained",
        unit=("entry", "entries"),
        days=None,
        least=365,
        tables=("record_recordentry", "record_chainlink"),
        oldest=record.oldest_entry,
        count=record.count_entries,
        delete=record.delete_entries,
    ),
)
#: by their keys, in the order in which they are shown
KINDS: Mapping[str, Kind] = {kind.key: kind for kind in _ALL}


def write_kinds(**_: object) -> None:
    """Have each kind known to the database. Where there are devices already, nothing goes before somebody has said for
    how long it is kept: they were told by nobody that it would."""
    if KeptKind._meta.db_table not in connection.introspection.table_names():
        return  # an older version of the tables, on its way to this one or back
    known = set(KeptKind.objects.values_list("key", flat=True))
    missing = [kind for kind in _ALL if kind.key not in known]
    if missing:
        is_used = Device.objects.exists()
        rows = [KeptKind(key=kind.key, days=None if is_used else kind.days) for kind in missing]
        KeptKind.objects.bulk_create(rows, ignore_conflicts=True)


def limit_of(days: int, now: datetime) -> datetime:
    """Before which moment it goes: whole days of UTC, so that a kind is through once a day."""
    return (now.astimezone(UTC) - timedelta(days=days)).replace(hour=0, minute=0, second=0, microsecond=0)
