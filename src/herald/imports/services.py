"""Verbs on imports: create, map, check, accept, write, cancel."""

from collections.abc import Mapping
from datetime import datetime

from django.db import transaction

from herald.db.copy import copy_rows
from herald.db.locks import IMPORT, held_by_me
from herald.fleet.editing import ensure_tags, make_devices, read_states, write_states
from herald.fleet.models import Device
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.consequences.acceptance import Agreement, consequences_of, require
from herald.http.errors import Conflict, Invalid, NobodyThere
from herald.imports.differences import Differences, read_differences
from herald.imports.mappings import check_mapping, mapping_for
from herald.imports.models import CellError, Import, ImportedDevice, ImportState
from herald.imports.planning import Plan, Planner
from herald.imports.reading import Unreadable, check_unpacked, is_workbook, read_rows
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.edits import State
from herald_core.text import is_storable

MAX_BYTES = 64 * 1024 * 1024
#: a file that stops the worker so often is given up
MOST_ATTEMPTS = 3


def create_import(
    content: bytes, file_name: str, *, actor: User | None, now: datetime, mapping: Mapping[str, str] | None = None
) -> Import:
    """Keep a file and have it checked, with its columns as `mapping` says, or matched by name.

    Raises:
        Invalid: it is too large or cannot be read.
    """
    from herald.imports.tasks import carry_out_check  # the tasks import this module

    if len(content) > MAX_BYTES:
        raise Invalid("/file", f"A file has at most {MAX_BYTES // 1024 // 1024} MB; part it in two.")
    headings: list[str] = []
    if is_workbook(content, file_name):  # its headings are a job's matter: they come only once all of it is unpacked
        try:
            check_unpacked(content)
        except Unreadable as error:
            raise Invalid("/file", str(error)) from error
    else:
        headings = headings_of(content, file_name)
    if mapping is None:
        mapping = mapping_for(headings)
    with transaction.atomic():
        made = Import.objects.create(
            file_name=file_name[:200],
            content=content,
            headings=headings,
            mapping=dict(mapping),
            created_at=now,
            created_by=actor,
        )
        carry_out_check.defer(import_id=made.pk)
    return made


def headings_of(content: bytes, file_name: str) -> list[str]:
    """The headings of a file's columns.

    Raises:
        Invalid: the file cannot be read, or holds no row.
    """
    try:
        first = next(read_rows(content, file_name), None)
    except Unreadable as error:
        raise Invalid("/file", str(error)) from error
    if first is None:
        raise Invalid("/file", "The file has headings and no rows.")
    return [h for h in first.cells if is_storable(h)]  # one that cannot be stored means no field either


def change_mapping(import_id: int, mapping: Mapping[str, str]) -> Import:
    """Say what the columns mean, and have the file checked again.

    Raises:
        Invalid: a field is unknown or named twice. Conflict: it was accepted already.
    """
    from herald.imports.tasks import carry_out_check

    check_mapping(mapping)
    with transaction.atomic():
        found = _locked(import_id, ImportState.CHECKED)
        found.mapping, found.state = dict(mapping), ImportState.CHECKING
        found.attempts = found.checked_count = 0
        found.save(update_fields=["mapping", "state", "attempts", "checked_count"])
        carry_out_check.defer(import_id=found.pk)
    return found


def check(import_id: int, *, now: datetime) -> None:
    """Count what the file would do, also to groups, and keep what is wrong. Writes no device.

    Nothing is done where another worker is at it, or where it was cancelled.
    """
    with held_by_me(IMPORT, import_id) as mine:
        found = _begun(import_id, ImportState.CHECKING) if mine else None
        if found is not None:
            _check(found, now)


def _begun(import_id: int, state: ImportState) -> Import | None:
    """The import, if it is in that state and may be tried once more."""
    found = Import.objects.filter(pk=import_id, state=state).first()
    if found is None:
        return None
    found.attempts += 1
    if found.attempts > MOST_ATTEMPTS:
        _end(found, ImportState.FAILED, f"A worker stopped {MOST_ATTEMPTS} times while it read this file.")
        return None
    found.save(update_fields=["attempts"])
    return found


def _check(found: Import, now: datetime) -> None:
    try:
        if not found.headings:
            found.headings = headings_of(bytes(found.content), found.file_name)
            found.mapping = found.mapping or mapping_for(found.headings)
            found.save(update_fields=["headings", "mapping"])
    except Invalid as error:
        _end(found, ImportState.FAILED, error.detail)
        return
    total = Plan()
    new = changed = 0
    vocabulary = load_vocabulary()
    planner, differences = Planner(found.mapping, vocabulary), Differences(vocabulary, now)
    CellError.objects.filter(of_import=found).delete()
    try:
        for plan in planner.chunks(read_rows(bytes(found.content), found.file_name)):
            new, changed = new + len(plan.new), changed + len(plan.changed)
            total.unchanged += plan.unchanged
            total.wrong_rows += plan.wrong_rows
            total.rows += plan.rows
            differences.add(plan)
            with transaction.atomic():
                still = Import.objects.filter(pk=found.pk, state=ImportState.CHECKING)
                if not still.update(checked_count=total.rows):
                    return  # somebody cancelled it
                wrong = [CellError(of_import=found, **w.__dict__) for w in plan.wrong]
                CellError.objects.bulk_create(wrong, batch_size=2000)
            notify("import", found.pk)
    except Unreadable as error:
        _end(found, ImportState.FAILED, str(error))
        return
    with transaction.atomic():
        if not Import.objects.select_for_update().filter(pk=found.pk, state=ImportState.CHECKING).exists():
            return
        found.checked_count = total.rows
        found.row_count, found.new_count, found.changed_count = total.rows, new, changed
        found.unchanged_count, found.wrong_count = total.unchanged, total.wrong_rows
        found.differences = differences.as_json()
        found.state, found.attempts = ImportState.CHECKED, 0
        found.save()
        notify("import", found.pk)


def accept(
    import_id: int, *, all_or_nothing: bool, actor: User | None, now: datetime, agreement: Agreement | None = None
) -> Import:
    """Have a checked file written.

    Raises:
        Conflict: it is not checked, or rows are wrong and all or nothing was asked for.
        NobodyThere: it would change nothing.
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    from herald.imports.tasks import carry_out_import

    with transaction.atomic():
        found = _locked(import_id, ImportState.CHECKED)
        if found.wrong_count and all_or_nothing:
            raise Conflict(f"{found.wrong_count} rows are wrong. Correct them, or import the good rows only.")
        if not found.new_count + found.changed_count:
            raise NobodyThere("Nothing in this file is new or different.")
        require(consequences_of(read_differences(found.differences)), agreement)
        found.state, found.all_or_nothing = ImportState.APPLYING, all_or_nothing
        found.save(update_fields=["state", "all_or_nothing"])
        sentence = f"Imported {found.file_name}: {found.new_count} new devices, {found.changed_count} changed"
        record(now=now, actor=actor, kind="import", object_id=found.pk, sentence=sentence[:300])
        carry_out_import.defer(import_id=found.pk)
    return found


def end_unchanged(import_id: int) -> None:
    """End a checked import that would change nothing."""
    with transaction.atomic():
        _end(_locked(import_id, ImportState.CHECKED), ImportState.DONE, "Nothing in it was new or different.")


def write(import_id: int, *, now: datetime) -> None:
    """Write an accepted file: in one transaction for all or nothing, else some thousands at a time.

    Rows are planned anew, so a repeat after a crash writes what is left.
    """
    with held_by_me(IMPORT, import_id) as mine:
        found = _begun(import_id, ImportState.APPLYING) if mine else None
        if found is None:
            return
        try:
            if found.all_or_nothing:
                with transaction.atomic():
                    _write_chunks(found, now)
            else:
                _write_chunks(found, now)
        except _CancelledError:
            return
        except Unreadable as error:
            _end(found, ImportState.FAILED, str(error))


class _CancelledError(Exception):
    """Somebody cancelled the import while it was written."""


def _write_chunks(found: Import, now: datetime) -> None:
    vocabulary = load_vocabulary()
    planner = Planner(found.mapping, vocabulary)
    written = 0
    for plan in planner.chunks(read_rows(bytes(found.content), found.file_name)):
        if plan.wrong_rows and found.all_or_nothing:
            raise Conflict(f"Row {plan.wrong[0].row} became wrong meanwhile: {plan.wrong[0].reason}.")
        with transaction.atomic():
            if not Import.objects.filter(pk=found.pk, state=ImportState.APPLYING).exists():
                raise _CancelledError
            ensure_tags(plan.tags)
            before = read_states(list(plan.changed), lock=True)
            write_states(plan.changed, vocabulary, now=now)
            make_devices(plan.new, vocabulary, now=now)
            _keep(found, before, plan)
            written += len(plan.changed) + len(plan.new)
            if not found.all_or_nothing:  # else the row would stay locked, and nobody could cancel
                Import.objects.filter(pk=found.pk).update(written_count=written)
                notify("import", found.pk)
    with transaction.atomic():
        if not Import.objects.select_for_update().filter(pk=found.pk, state=ImportState.APPLYING).exists():
            raise _CancelledError
        Import.objects.filter(pk=found.pk).update(written_count=written)
        _end(found, ImportState.DONE, "")
        notify("fleet")


def _keep(found: Import, before: Mapping[int, State], plan: Plan) -> None:
    """Keep what was written, to be undone."""
    made = dict(Device.objects.filter(uid__any=list(plan.new)).values_list("uid", "pk"))
    rows = [ImportedDevice(of_import=found, device_id=made[uid], after=state) for uid, state in plan.new.items()]
    rows += [
        ImportedDevice(of_import=found, device_id=pk, before=before[pk], after=after)
        for pk, after in plan.changed.items()
    ]
    copy_rows(rows)


def cancel(import_id: int, *, actor: User | None, now: datetime) -> Import:
    """Stop an import. What good-rows-only has written stays; all or nothing leaves nothing.

    Raises:
        Conflict: it has ended.
    """
    with transaction.atomic():
        found = Import.objects.select_for_update().get(pk=import_id)
        if found.state not in (ImportState.CHECKING, ImportState.CHECKED, ImportState.APPLYING):
            raise Conflict(f"This import is {found.get_state_display().lower()}.")
        written = found.written_count
        _end(found, ImportState.CANCELLED, "")
        sentence = f"Cancelled the import of {found.file_name}; {written} devices of it were written"
        record(now=now, actor=actor, kind="import", object_id=found.pk, sentence=sentence[:300])
    return found


def fail(import_id: int, reason: str) -> None:
    """Note why an import failed, unless it has ended meanwhile."""
    with transaction.atomic():
        found = Import.objects.select_for_update().get(pk=import_id)
        if found.state in (ImportState.CHECKING, ImportState.APPLYING):
            _end(found, ImportState.FAILED, reason)


def _end(found: Import, state: ImportState, reason: str) -> None:
    found.state, found.reason, found.content, found.headings = state, reason[:300], b"", []
    found.save(update_fields=["state", "reason", "content", "headings"])
    notify("import", found.pk)


def _locked(import_id: int, state: ImportState) -> Import:
    found = Import.objects.select_for_update().get(pk=import_id)
    if found.state != state:
        raise Conflict(f"This import is {found.get_state_display().lower()}.")
    return found
