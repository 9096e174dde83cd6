"""Imports that repeat: a file at an address is read again and again, and checked as any file is.

What a person has read waits for that person, who sees what it would do. What is read by itself is imported where no row
is wrong, not more devices are made and changed than was allowed, and nothing that runs would reach other devices by it
(`groups.consequences`); otherwise it waits for somebody as a checked import.
"""

import hashlib
from dataclasses import dataclass
from datetime import datetime
from pathlib import PurePosixPath
from urllib.parse import unquote, urlsplit

import structlog
from django.db import transaction

from herald.attention.models import ItemKind
from herald.attention.services import close_item, open_item
from herald.groups.consequences.acceptance import Agreement, NotAgreed
from herald.http.errors import Conflict, Invalid
from herald.http.outbound import FetchError, fetch, in_turn, settled_authorization, without_secrets
from herald.imports import services
from herald.imports.models import Import, ImportState, RepeatedImport, SavedMapping
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.text import in_words, nfc

ACCEPT = "text/csv, application/x-ndjson, */*;q=0.5"
SUFFIXES = (".csv", ".tsv", ".txt", ".xlsx", ".xlsm", ".jsonl", ".ndjson", ".json")
#: it is an item of attention once it failed so often in a row
FAILURES = 3
ABOUT = "repeated-import"
_AT_WORK = (ImportState.CHECKING, ImportState.APPLYING)
log = structlog.get_logger(__name__)


@dataclass(frozen=True, kw_only=True)
class RepeatDraft:
    """An import that repeats, as it is written down. An `authorization` of None keeps the one there is, while the
    address is of the same host."""

    name: str
    url: str
    mapping: SavedMapping
    authorization: str | None = None
    all_or_nothing: bool = True
    read_every_minutes: int = 1440
    unasked: int = 100


def save_repeated(
    draft: RepeatDraft, *, actor: User, now: datetime, repeated: RepeatedImport | None = None
) -> RepeatedImport:
    """Write an import that repeats down, new or in place of what `repeated` was. Its file is read and checked at once,
    and waits for whoever does this.

    Raises:
        Invalid: it cannot be read, lacks columns of the mapping, or its name is taken.
    """
    name = nfc(draft.name).strip()
    if not name:
        raise Invalid("/name", "Give it a name.")
    if RepeatedImport.objects.filter(name=name).exclude(pk=repeated and repeated.pk).exists():
        raise Invalid("/name", f"There is an import named “{name}” that repeats already.")
    authorization = settled_authorization(draft.authorization, draft.url, repeated)
    try:
        content = _content(draft.url, authorization)
        _check_columns(content, _file_name(name, draft.url, content), draft.mapping)
    except (FetchError, Invalid) as error:
        raise Invalid("/url", str(error) if isinstance(error, FetchError) else error.detail) from error
    with transaction.atomic():
        verb = "Changed" if repeated else "Added"
        kept = RepeatedImport.objects.select_for_update().get(pk=repeated.pk) if repeated else RepeatedImport()
        kept.created_by = kept.created_by or actor
        kept.name, kept.url, kept.authorization, kept.mapping = name, draft.url, authorization, draft.mapping
        kept.all_or_nothing, kept.unasked = draft.all_or_nothing, draft.unasked
        kept.read_every_minutes = draft.read_every_minutes
        _take(kept, content, actor=actor, now=now)
        sentence = f"{verb} the import “{name}”, which repeats from {without_secrets(draft.url)}"
        record(now=now, actor=actor, kind="import", object_id=0, sentence=sentence[:300])
    return kept


def read_now(repeated: RepeatedImport, *, actor: User, now: datetime) -> RepeatedImport:
    """Read the file whenever it is due, have it checked, and let it wait for whoever does this; also where it is the
    file that was read last. One that cannot be read changes nothing, and says why.

    Raises:
        Conflict: a worker still writes the file before it.
    """
    if repeated.last_import and repeated.last_import.state == ImportState.APPLYING:
        raise Conflict(f"A worker still writes the last file of “{repeated}”.")
    return _read(repeated, actor=actor, now=now)


def read_due(*, now: datetime) -> int:
    """Read the files that are due, one after another; how many are. One that fails keeps no other waiting for longer
    than its own time limit, and what is left after a while is read in the next turn."""
    due = [r for r in RepeatedImport.objects.listed().due(now) if not _is_at_work(r)]
    for repeated in in_turn(due):
        try:
            _read(repeated, actor=None, now=now)
        except Exception:
            log.exception("import_not_read", repeated=repeated.pk)
            message = "The server failed as it read this; its log says how."
            RepeatedImport.objects.filter(pk=repeated.pk).update(tried_at=now, last_error=message)
    return len(due)


def judge_checked(*, now: datetime) -> None:
    """Decide of the files that were read by themselves and are checked by now: import them, or let them wait; and note
    which wait no longer, as somebody decided."""
    for one in RepeatedImport.objects.to_judge():
        try:
            with transaction.atomic():
                rows = RepeatedImport.objects.select_for_update(of=("self",)).select_related("last_import")
                repeated = rows.defer("last_import__content").filter(pk=one.pk).first()
                if repeated is not None:
                    _judge(repeated, now=now)
        except Exception:
            log.exception("import_not_judged", repeated=one.pk)
            message = "The server failed as it decided of this file; its log says how."
            RepeatedImport.objects.filter(pk=one.pk).update(is_judged=True, waits_for=message)


def delete_repeated(repeated: RepeatedImport, *, actor: User, now: datetime) -> None:
    """Let an import repeat no longer; what it imported stays, and a file that waits can still be imported."""
    with transaction.atomic():
        sentence = f"Removed the import “{repeated}”, which repeated from {without_secrets(repeated.url)}"
        record(now=now, actor=actor, kind="import", object_id=0, sentence=sentence[:300])
        close_item(ItemKind.FOLLOWED_LIST, object_kind=ABOUT, object_id=repeated.pk, now=now)
        repeated.delete()
        notify("import")


def _is_at_work(repeated: RepeatedImport) -> bool:
    return repeated.last_import is not None and repeated.last_import.state in _AT_WORK


def _content(url: str, authorization: str) -> bytes:
    return fetch(url, most_bytes=services.MAX_BYTES, accept=ACCEPT, authorization=authorization).body


def _file_name(name: str, url: str, content: bytes) -> str:
    """What the file is called: how it ends says what it is."""
    last = unquote(PurePosixPath(urlsplit(url).path).name)[-80:] or "file"
    if not last.lower().endswith(SUFFIXES):
        last += ".jsonl" if content.lstrip()[:1] == b"{" else ".csv"
    return f"{name}, {last}"


def _check_columns(content: bytes, file_name: str, mapping: SavedMapping) -> None:
    """Refuse a file that lacks what the mapping takes: a column that is renamed there would be left out unseen."""
    headings = services.headings_of(content, file_name)
    missing = [column for column, field in mapping.mapping.items() if field and column not in headings]
    if missing:
        lacks = in_words([f"“{c[:40]}”" for c in missing[:5]])
        there = in_words([f"“{h[:40]}”" for h in headings[:8]])
        raise Invalid("/url", f"It has no column {lacks}, which “{mapping.name}” takes; its columns are {there}.")


def _read(repeated: RepeatedImport, *, actor: User | None, now: datetime) -> RepeatedImport:
    error, content = "", b""
    try:
        content = _content(repeated.url, repeated.authorization)
        _check_columns(content, _file_name(repeated.name, repeated.url, content), repeated.mapping)
    except FetchError as failed:
        error = str(failed)
    except Invalid as refused:
        error = refused.detail
    with transaction.atomic():
        kept: RepeatedImport | None = (
            RepeatedImport.objects.select_for_update(of=("self",))
            .select_related("mapping")
            .filter(pk=repeated.pk)
            .first()
        )
        if kept is None or kept.url != repeated.url:
            return repeated  # removed or changed while it was read
        if error:
            _note_failure(kept, error, now=now)
        else:
            _take(kept, content, actor=actor, now=now)
    return kept


def _note_failure(kept: RepeatedImport, error: str, *, now: datetime) -> None:
    kept.tried_at, kept.last_error, kept.failures = now, error[:300], kept.failures + 1
    kept.save(update_fields=["tried_at", "last_error", "failures"])
    if kept.failures >= FAILURES and not kept.waits_for:
        cause = f"The import “{kept}” could not be repeated {kept.failures} times: {error}"
        open_item(ItemKind.FOLLOWED_LIST, object_kind=ABOUT, object_id=kept.pk, cause=cause, now=now)
    notify("import")


def _take(kept: RepeatedImport, content: bytes, *, actor: User | None, now: datetime) -> None:
    """Have a file checked, in place of one that still waits; a file that was read by itself and is the last one again
    is not looked at twice."""
    digest = hashlib.sha256(content).hexdigest()
    kept.tried_at = kept.read_at = now
    kept.last_error, kept.failures = "", 0
    if actor is None and digest == kept.digest:
        kept.save()
        if not kept.waits_for:  # an item that it could not be read is over
            close_item(ItemKind.FOLLOWED_LIST, object_kind=ABOUT, object_id=kept.pk, now=now)
        return
    last = Import.objects.filter(repeated=kept).defer("content").first() if kept.pk else None
    if last is not None and last.state in (ImportState.CHECKED, ImportState.CHECKING):
        services.cancel(last.pk, actor=actor, now=now)
    taken = {column: field for column, field in kept.mapping.mapping.items() if field}
    file_name = _file_name(kept.name, kept.url, content)
    made = services.create_import(content, file_name, actor=actor, now=now, mapping=taken)
    kept.last_import, kept.digest, kept.is_judged, kept.waits_for = made, digest, actor is not None, ""
    kept.save()
    close_item(ItemKind.FOLLOWED_LIST, object_kind=ABOUT, object_id=kept.pk, now=now)
    notify("import")


def _judge(repeated: RepeatedImport, *, now: datetime) -> None:
    found = repeated.last_import
    if found is not None and found.state == ImportState.CHECKING:
        return
    waits_for = ""
    if found is not None and not repeated.is_judged:
        if found.state == ImportState.FAILED:
            # it is not the file that was dealt with: it is tried again when it is due
            repeated.digest = ""
            _note_failure(repeated, found.reason, now=now)
        elif found.state == ImportState.CHECKED:
            waits_for = _import_or_why_not(repeated, found, now=now)
    elif found is not None and found.state == ImportState.CHECKED:
        waits_for = repeated.waits_for  # nobody has decided yet
    repeated.is_judged, repeated.waits_for = True, waits_for[:300]
    repeated.save(update_fields=["is_judged", "waits_for", "digest"])
    if waits_for:
        cause = f"The import “{repeated}” waits for somebody: {waits_for}"
        open_item(ItemKind.FOLLOWED_LIST, object_kind=ABOUT, object_id=repeated.pk, cause=cause, now=now)
    elif not repeated.failures:
        close_item(ItemKind.FOLLOWED_LIST, object_kind=ABOUT, object_id=repeated.pk, now=now)
    notify("import")


def _import_or_why_not(repeated: RepeatedImport, found: Import, *, now: datetime) -> str:
    """Import a checked file, or say why somebody has to."""
    touched = found.new_count + found.changed_count
    if found.wrong_count and repeated.all_or_nothing:
        return f"{found.wrong_count} of {found.row_count} rows are wrong"
    if not touched:
        services.end_unchanged(found.pk)
        return ""
    if touched > repeated.unasked:
        made, changed = found.new_count, found.changed_count
        return f"it makes {made} devices and changes {changed}, more than the {repeated.unasked} that go unasked"
    try:
        with transaction.atomic():
            services.accept(
                found.pk, all_or_nothing=repeated.all_or_nothing, actor=None, now=now, agreement=Agreement()
            )
    except NotAgreed as refused:
        return refused.detail
    return ""
