"""Undoing an import as one step."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db.models import Q

from herald.fleet.editing import read_states, write_states
from herald.fleet.models import Admission, Device
from herald.fleet.registration import delete_devices
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.consequences.acceptance import Agreement, admission_differences, gated
from herald.groups.models import GroupMembership
from herald.http.errors import Conflict
from herald.imports.models import Import, ImportedDevice, ImportState
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.edits import holds

CHUNK = 2000


@dataclass(frozen=True, kw_only=True)
class Undoing:
    """What undoing an import does: devices that get back what they had, devices that are removed as nothing was heard
    of them, devices that have called since and wait for admission, and those that somebody changed since, because of
    which it cannot be undone."""

    restored: int
    removed: int
    kept_waiting: int
    changed_since: int


@dataclass(frozen=True, kw_only=True)
class _Plan:
    restore: Sequence[ImportedDevice]
    remove: Sequence[int]
    keep: Sequence[int]
    changed: int

    @property
    def told(self) -> Undoing:
        return Undoing(
            restored=len(self.restore),
            removed=len(self.remove),
            kept_waiting=len(self.keep),
            changed_since=self.changed,
        )


def preview_undo(found: Import) -> Undoing:
    """What undoing would do.

    Raises:
        Conflict: the import was not written whole, or is undone already.
    """
    _check(found)
    return _plan(found).told


def undo_import(
    import_id: int, *, actor: User | None, now: datetime, agreement: Agreement | None = None
) -> tuple[Import, Undoing]:
    """Give changed devices back what they had, and take the new ones out again, in one transaction.

    Raises:
        Conflict: as `preview_undo`; or devices were changed since, with how many. Nothing is written then.
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    with gated(agreement, now=now, cause="the import was undone") as more:
        found = Import.objects.select_for_update().get(pk=import_id)
        _check(found)
        plan = _plan(found, lock=True)
        if plan.changed:
            raise Conflict(
                f"{plan.changed} devices were changed since, so this can no longer be undone as one step.",
                devices=plan.changed,
            )
        vocabulary = load_vocabulary()
        changes: dict[int, dict[str, Any]] = {r.device_id: r.before or {} for r in plan.restore}
        changes |= {pk: {"admission": Admission.WAITING.value} for pk in plan.keep}
        ids = list(changes)
        for start in range(0, len(ids), CHUNK):
            present = read_states(ids[start : start + CHUNK])
            after = {pk: {**state, **changes[pk]} for pk, state in present.items()}
            write_states(after, vocabulary, now=now)
            more += admission_differences(_admissions(present), _admissions(after))
        more += GroupMembership.objects.counts_by_group([], plan.remove)
        delete_devices(plan.remove)
        found.state = ImportState.UNDONE
        found.save(update_fields=["state"])
        told = plan.told
        sentence = (
            f"Undid the import of {found.file_name}: {told.restored} devices as before, {told.removed} removed, "
            f"{told.kept_waiting} wait for admission"
        )
        record(now=now, actor=actor, kind="import", object_id=found.pk, sentence=sentence[:300])
        notify("import", found.pk)
        notify("fleet")
    return found, told


def _admissions(states: Mapping[int, Mapping[str, Any]]) -> dict[int, str]:
    return {pk: state["admission"] for pk, state in states.items()}


def _check(found: Import) -> None:
    if found.state not in (ImportState.DONE, ImportState.CANCELLED):
        raise Conflict(f"This import is {found.get_state_display().lower()}, so there is nothing to undo.")
    if not found.devices.exists():
        raise Conflict("This import wrote no device, so there is nothing to undo.")


def _plan(found: Import, *, lock: bool = False) -> _Plan:
    rows = list(found.devices.order_by("device_id"))
    states: dict[int, dict[str, Any]] = {}
    for start in range(0, len(rows), CHUNK):
        states |= read_states([r.device_id for r in rows[start : start + CHUNK]], lock=lock)
    changed = [r for r in rows if not holds(states.get(r.device_id), r.after)]
    made = [r.device_id for r in rows if r.before is None]
    called = Q(secret_hash__isnull=False) | Q(last_check_in__isnull=False) | Q(deliveries__isnull=False)
    heard = set(Device.objects.by_ids(made).filter(called).values_list("pk", flat=True))
    return _Plan(
        restore=[r for r in rows if r.before is not None],
        remove=[pk for pk in made if pk not in heard],
        keep=sorted(heard),
        changed=len(changed),
    )
