"""What the rows of a file would do to groups."""

from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any

from herald.fleet.editing import Tables, after_edit, read_states
from herald.fleet.models import DeviceModel
from herald.groups.consequences.acceptance import admission_differences
from herald.groups.consequences.cascade import Records, differences, effects_of
from herald.groups.models import Group
from herald.imports.planning import Plan
from herald_core.edits import State
from herald_core.rules import Record, Vocabulary

#: what an import may change of a device; of a new one, everything is new
_TOUCHED = frozenset(
    {"uid", "name", "serial", "model", "family", "hardware", "site", "region", "time_zone"}
    | {"custodian", "custodian_tag", "tag", "admission", "presence", "first_seen", "last_check_in", "firmware"}
)


class Differences:
    """Adds up, chunk by chunk, who would join and leave which groups."""

    def __init__(self, vocabulary: Vocabulary, now: datetime) -> None:
        self._now = now
        self._tables = Tables(vocabulary)
        self._models = {m.pk: m for m in DeviceModel.objects.all()}
        self._touched = _TOUCHED | {s.key for s in vocabulary.fields.values() if s.source != "device"}
        self._counts: dict[int, list[int]] = {}

    def add(self, plan: Plan) -> None:
        """Count what these rows would do."""
        changed = plan.changed

        def after(records: Records) -> Records:
            return {pk: self._seen(r, changed[pk]) for pk, r in records.items()}

        new = [self._new(uid, state) for uid, state in plan.new.items()]
        effects = effects_of(list(changed), after, self._touched, now=self._now, new=new)
        found = differences(effects)
        before = {pk: state["admission"] for pk, state in read_states(list(changed)).items()}
        found += admission_differences(before, {pk: changed[pk]["admission"] for pk in before})
        for group, joins, leaves in found:
            counts = self._counts.setdefault(group.pk, [0, 0])
            counts[0] += joins
            counts[1] += leaves

    def as_json(self) -> list[list[int]]:
        """As they are kept with the import."""
        return [[pk, joins, leaves] for pk, (joins, leaves) in sorted(self._counts.items())]

    def _seen(self, record: Record, state: State) -> dict[str, Any]:
        model = self._models[state["model"]]
        own: Mapping[str, Any] = {
            "serial": state["serial"] or None,
            "model": model.name,
            "family": model.family or None,
            "hardware": state["hardware"] or None,
        }
        return {**after_edit(record, state, self._tables, self._now), **own}

    def _new(self, uid: str, state: State) -> dict[str, Any]:
        nothing = {"uid": uid, "firmware": None, "presence": "never seen", "first_seen": None, "last_check_in": None}
        return self._seen(nothing, state)


def read_differences(kept: Iterable[tuple[int, int, int]]) -> list[tuple[Group, int, int]]:
    """The differences that were kept with an import, of the groups that are still there."""
    rows = list(kept)
    groups = Group.objects.in_bulk([pk for pk, _, _ in rows])
    return [(groups[pk], joins, leaves) for pk, joins, leaves in rows if pk in groups]
