"""What commands gave, sent by devices in pieces: kept in files, read again, compared, and deleted when it is old."""

import difflib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from django.conf import settings
from django.db import transaction

from herald.commands.models import Output
from herald.deliveries.models import Delivery
from herald.people.models import User
from herald.pieces import write_piece
from herald.record.services import record
from herald_core.actions import Action

#: of a text, and of a log, so much is kept; the rest is cut, which is said
MOST_OF_TEXT, MOST_OF_LOG = 64 * 1024, 5 * 1024**2
KEPT_FOR, MOST_OF_DEVICE = timedelta(days=30), 50 * 1024**2
#: lines that are shown or compared at once
MOST_LINES = 2_000
#: a turn deletes at most so many
BATCH = 500


@dataclass(frozen=True)
class Progress:
    """How far an output has come, and whether no more of it is wanted."""

    offset: int
    cut: bool


def path_of(output: Output) -> Path:
    """Where the bytes are: by device, so that no folder grows without end."""
    device = output.device_id
    return Path(settings.OUTPUTS_DIR) / f"{device % 1000:03}" / str(device) / str(output.delivery_id)


def append(delivery: Delivery, offset: int, piece: bytes, *, now: datetime) -> Progress:
    """Write the piece that comes next; one that does not come next is left, and the answer says which does.

    A crash may leave bytes in the file that no row counts: the piece is sent again and written over them.
    """
    occurrence = delivery.occurrence
    is_log = occurrence is not None and occurrence.template.action == Action.LOGS
    most = MOST_OF_LOG if is_log else MOST_OF_TEXT
    with transaction.atomic():
        Output.objects.get_or_create(
            delivery=delivery, defaults={"device_id": delivery.device_id, "is_log": is_log, "last_at": now}
        )
        output = Output.objects.select_for_update().get(delivery=delivery)
        if offset != output.size:
            return Progress(output.size, output.is_cut)
        kept = piece[: most - output.size]
        path = path_of(output)
        path.parent.mkdir(parents=True, exist_ok=True)
        write_piece(path, offset, kept)
        output.size, output.is_cut, output.last_at = offset + len(kept), len(kept) < len(piece), now
        output.save(update_fields=["size", "is_cut", "last_at"])
    return Progress(output.size, output.is_cut)


@dataclass(frozen=True)
class Line:
    """A line of an output, by its number from 1."""

    number: int
    text: str


def lines_of_text(text: str, *, words: str = "", first: int = 1, most: int = MOST_LINES) -> tuple[list[Line], int]:
    """Lines from the `first` on in which these words are found, at most so many; and how many are found in all."""
    wanted = words.casefold()
    found = [Line(n, line) for n, line in enumerate(text.splitlines(), 1) if wanted in line.casefold()]
    return [line for line in found if line.number >= first][:most], len(found)


def text_of(output: Output) -> str:
    """The output as text; empty where its file is gone."""
    try:
        content = path_of(output).read_bytes()[: output.size]
    except FileNotFoundError:
        return ""
    return content.decode("utf-8", "replace").replace("\x00", "\ufffd")


def compared(before: str, now: str) -> Sequence[str]:
    """A unified diff of the last lines of two outputs; empty where nothing differs."""
    old, new = (text.splitlines()[-MOST_LINES:] for text in (before, now))
    return list(difflib.unified_diff(old, new, "before", "now", lineterm="", n=2))[:MOST_LINES]


def note_download(output: Output, *, actor: User | None, now: datetime) -> None:
    """Put on record that somebody took an output as a file."""
    what = "the log" if output.is_log else "the output"
    sentence = f"Downloaded {what} of {output.device.name}, {output.size} bytes"
    record(now=now, actor=actor, kind="device", object_id=output.device_id, sentence=sentence)


def delete_old(*, now: datetime) -> int:
    """Delete what is older than is kept, and of each device the oldest beyond the most that is kept; how many."""
    old = list(Output.objects.too_old(now - KEPT_FOR)[:BATCH])
    old += list(Output.objects.filter(pk__in=[o.pk for o in Output.objects.beyond(MOST_OF_DEVICE)[:BATCH]]))
    for output in old:
        path_of(output).unlink(missing_ok=True)
    Output.objects.filter(pk__in=[o.pk for o in old]).delete()
    return len(old)
