"""Verbs on edits: preview, apply, undo."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime

from django.db import IntegrityError, transaction

from herald.edits.change import RequestedEdit, describe_edit, from_json, read_change, to_json
from herald.edits.models import Edit, EditedDevice, EditState
from herald.fleet.editing import Tables, after_edit, ensure_tags, read_states, write_states
from herald.fleet.services import device_ids
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.consequences.acceptance import (
    Agreement,
    Consequences,
    admission_differences,
    consequences_of,
    require,
)
from herald.groups.consequences.cascade import GroupEffect, Records, differences, effects_of
from herald.groups.rule_queries import matching
from herald.groups.rules import read_rule
from herald.http.errors import Conflict, Invalid, NobodyThere
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.edits import Change, State, edited, fields_touched, holds

#: Devices written in one transaction of the job; as many are changed at once, without a job.
CHUNK = 2000


@dataclass(frozen=True, kw_only=True)
class Target:
    """Whom an edit is for: named devices, or all that a rule matches (an empty rule is nobody)."""

    devices: Sequence[str] = ()
    rule: str = ""


@dataclass(frozen=True, kw_only=True)
class Preview:
    """What an edit would do."""

    targeted: int
    changing: int
    sentence: str
    groups: list[GroupEffect]


def preview_edit(asked: RequestedEdit, target: Target, *, now: datetime) -> Preview:
    """How many devices would change, and which groups would gain or lose whom.

    Raises:
        InvalidFields: something asked for does not fit.
        InvalidRule: the rule of the target cannot be understood.
    """
    change = read_change(asked, load_vocabulary())
    ids = targeted_ids(target, now)
    changing = _changing(ids, change)
    return Preview(
        targeted=len(ids),
        changing=len(changing),
        sentence=describe_edit(asked, len(changing)),
        groups=_effects(changing, change, now),
    )


def request_edit(
    asked: RequestedEdit, target: Target, *, actor: User | None, now: datetime, agreement: Agreement | None = None
) -> Edit:
    """Note an edit and apply it: at once for up to `CHUNK` devices, else by a job with progress.

    Raises:
        NobodyThere: no device would change.
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    from herald.edits.tasks import run_edit  # the tasks import this module

    change = read_change(asked, load_vocabulary())
    with transaction.atomic():
        changing = _changing(targeted_ids(target, now), change)
        if not changing:
            raise NobodyThere("No device would change by this.")
        if "name" in change.replace and len(changing) > 1:
            raise Invalid("/name", "A name belongs to one device; choose one.")
        if agreement is not None:
            require(_consequences(changing, change, now), agreement)
        ensure_tags(change.add_tags)
        edit = Edit.objects.create(
            sentence=describe_edit(asked, len(changing)),
            change=to_json(change),
            device_count=len(changing),
            created_at=now,
            created_by=actor,
        )
        EditedDevice.objects.bulk_create([EditedDevice(edit=edit, device_id=i) for i in changing], batch_size=5000)
        record(now=now, actor=actor, kind="edit", object_id=edit.pk, sentence=edit.sentence, after=to_json(change))
        if len(changing) <= CHUNK:
            _write_chunk(edit, now)
        else:
            run_edit.defer(edit_id=edit.pk)
    edit.refresh_from_db()
    return edit


def apply_next(edit_id: int, *, now: datetime) -> bool:
    """Write the next devices of an edit; whether there may be more. Safe to repeat after a crash."""
    with transaction.atomic():
        edit = Edit.objects.select_for_update().filter(pk=edit_id, state=EditState.RUNNING).first()
        return edit is not None and _write_chunk(edit, now)


def _write_chunk(edit: Edit, now: datetime) -> bool:
    change = from_json(edit.change)
    ids = list(EditedDevice.objects.to_do(edit.pk).values_list("device_id", flat=True)[:CHUNK])
    before = read_states(ids, lock=True)
    after = {pk: edited(state, change) for pk, state in before.items()}
    try:
        with transaction.atomic():
            write_states(after, load_vocabulary(), now=now)
    except IntegrityError as error:
        if "name" not in change.replace:
            raise
        raise Conflict("Another device has this name already.") from error
    EditedDevice.objects.to_do(edit.pk).note_written(before, after)
    edit.done_count += len(ids)
    if edit.done_count >= edit.device_count:
        edit.state = EditState.DONE
    edit.save(update_fields=["done_count", "state"])
    notify("edit", edit.pk)
    notify("fleet")
    return edit.state == EditState.RUNNING


def request_undo(edit: Edit, *, actor: User | None, now: datetime, agreement: Agreement | None = None) -> Edit:
    """Restore what every device had before, as one step: at once for up to `CHUNK` devices, else by a job.

    Raises:
        Conflict: it is not done, or somebody changed those values since; with how many devices.
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    from herald.edits.tasks import carry_out_undo

    with transaction.atomic():
        edit = Edit.objects.select_for_update().get(pk=edit.pk)
        if edit.state != EditState.DONE:
            raise Conflict(f"This edit is {edit.get_state_display().lower()}, so there is nothing to undo.")
        if agreement is not None:
            require(_consequences_of_undo(edit, now), agreement)
        edit.state, edit.reason = EditState.UNDOING, ""
        edit.save(update_fields=["state", "reason"])
        sentence = f"Undid: {edit.sentence}"[:300]
        record(now=now, actor=actor, kind="edit", object_id=edit.pk, sentence=sentence)
        if edit.device_count <= CHUNK:
            undo_edit(edit.pk, now=now)
        else:
            carry_out_undo.defer(edit_id=edit.pk)
    edit.refresh_from_db()
    notify("edit", edit.pk)
    return edit


def undo_edit(edit_id: int, *, now: datetime) -> None:
    """Write what every device had before, in one transaction. Safe to repeat after a crash.

    Raises:
        Conflict: somebody changed those values since; with how many devices. Nothing is written then.
    """
    with transaction.atomic():
        edit = Edit.objects.select_for_update().filter(pk=edit_id, state=EditState.UNDOING).first()
        if edit is None:
            return
        rows = list(EditedDevice.objects.written(edit.pk))
        present = read_states([r.device_id for r in rows], lock=True)
        changed_since = [r for r in rows if not holds(present.get(r.device_id), r.after)]
        if changed_since:
            n = len(changed_since)
            message = f"{n} of {len(rows)} devices were changed since, so this can no longer be undone as one step."
            raise Conflict(message, devices=n)
        vocabulary = load_vocabulary()
        for start in range(0, len(rows), CHUNK):
            chunk = rows[start : start + CHUNK]
            write_states({r.device_id: {**present[r.device_id], **r.before} for r in chunk}, vocabulary, now=now)
        edit.state = EditState.UNDONE
        edit.save(update_fields=["state"])
        notify("edit", edit.pk)
        notify("fleet")


def mark_undo_refused(edit_id: int, reason: str) -> None:
    """Note that an edit could not be undone and stands."""
    Edit.objects.filter(pk=edit_id, state=EditState.UNDOING).update(state=EditState.DONE, reason=reason[:300])
    notify("edit", edit_id)


def mark_failed(edit_id: int, reason: str) -> None:
    """Note that an edit stopped; what was written stays and is in its list."""
    Edit.objects.filter(pk=edit_id, state=EditState.RUNNING).update(state=EditState.FAILED, reason=reason[:300])
    notify("edit", edit_id)


def targeted_ids(target: Target, now: datetime) -> list[int]:
    """Ids of the devices that a target means, each once.

    Raises:
        Invalid: both or neither were given, or a device is unknown.
    """
    if bool(target.devices) == bool(target.rule.strip()):
        raise Invalid("/target", "Name devices, or a rule that matches them; `everything` is all of them.")
    if target.devices:
        return sorted(set(device_ids(list(target.devices), "/target/devices")))
    vocabulary = load_vocabulary()
    return sorted(matching(read_rule(target.rule, vocabulary), vocabulary, now).values_list("pk", flat=True))


def _changing(ids: Sequence[int], change: Change) -> list[int]:
    found: list[int] = []
    for start in range(0, len(ids), 10_000):
        states = read_states(ids[start : start + 10_000])
        found += [pk for pk, state in states.items() if edited(state, change) != state]
    return found


def _effects(ids: Sequence[int], change: Change, now: datetime) -> list[GroupEffect]:
    return _effects_of_states(ids, lambda _, state: edited(state, change), fields_touched(change), now)


def _effects_of_states(
    ids: Sequence[int], becomes: Callable[[int, State], State], touched: frozenset[str], now: datetime
) -> list[GroupEffect]:
    """What it does to groups that the state of each device becomes another."""
    tables = Tables(load_vocabulary())

    def after(records: Records) -> Records:
        states = read_states(list(records))
        return {pk: after_edit(records[pk], becomes(pk, state), tables, now) for pk, state in states.items()}

    return effects_of(ids, after, touched, now=now)


def _consequences(ids: Sequence[int], change: Change, now: datetime) -> Consequences:
    found = differences(_effects(ids, change, now))
    if "admission" in change.replace:
        before = {pk: state["admission"] for pk, state in _states(ids)}
        found += admission_differences(before, dict.fromkeys(before, change.replace["admission"]))
    return consequences_of(found)


def _consequences_of_undo(edit: Edit, now: datetime) -> Consequences:
    change = from_json(edit.change)
    rows = {r.device_id: r for r in EditedDevice.objects.written(edit.pk)}
    effects = _effects_of_states(
        list(rows), lambda pk, state: {**state, **rows[pk].before}, fields_touched(change), now
    )
    found = differences(effects)
    if "admission" in change.replace:
        present = {pk: r.after["admission"] for pk, r in rows.items()}
        found += admission_differences(present, {pk: r.before["admission"] for pk, r in rows.items()})
    return consequences_of(found)


def _states(ids: Sequence[int]) -> Iterator[tuple[int, State]]:
    for start in range(0, len(ids), 10_000):
        yield from read_states(ids[start : start + 10_000]).items()
