"""Facts: found in what devices report, counted, and described by people."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

import structlog
from django.db import IntegrityError, transaction
from django.db.models import Count, F, Value
from django.db.utils import InterfaceError, OperationalError

from herald.db.expressions import JsonText
from herald.fleet.editing import fact_sort_keys, write_definition, write_version_keys
from herald.fleet.models import Device, MembershipQueueEntry, PropertyDefinition, ReportedFact
from herald.fleet.properties import (
    count_anew,
    counted_at,
    has_value,
    kind_expression,
    note_keys,
    write_incompatible_values,
)
from herald.groups.consequences.acceptance import Agreement, gated
from herald.groups.consequences.cascade import RuleIndex, rules_naming
from herald.groups.references import Reference, rule_of
from herald.groups.rules import check_saved_rules
from herald.http.errors import Conflict, Invalid
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.facts import FOUND, fits, type_of
from herald_core.rules import FieldSpec, FieldType
from herald_core.rules.fields import BUILT_IN_KEYS

#: a fact is counted anew so often, and so many of them in one go: each reads every device once
EVERY = timedelta(hours=1)
FACTS_PER_RUN = 5
CHUNK = 5000
MOST_MISFITS = 20
log = structlog.get_logger()


@dataclass(frozen=True, kw_only=True)
class FactRow:
    """A key that devices report. `definition` is none for one that cannot be used: `conflict` says which field has its
    key already, or that it was not counted yet."""

    key: str
    reported: ReportedFact | None
    definition: PropertyDefinition | None
    conflict: str = ""
    uses: list[Reference] = field(default_factory=list)

    @property
    def mixed(self) -> bool:
        """Whether no type has 99% of its values."""
        found = type_of(_kinds(self.reported.kinds)) if self.reported else None
        return found is not None and found[1]


def list_facts() -> list[FactRow]:
    """Every key that devices report, and every fact that was defined before any did."""
    reported = {r.key: r for r in ReportedFact.objects.all()}
    defined = {d.key: d for d in PropertyDefinition.objects.all()}
    rows, rules = [], RuleIndex()
    for key in sorted({*reported, *(k for k, d in defined.items() if d.source == "fact")}):
        definition = defined.get(key)
        is_fact = definition is not None and definition.source == "fact"
        conflict = "" if is_fact else _conflict(key, definition)
        rows.append(
            FactRow(
                key=key,
                reported=reported.get(key),
                definition=definition if is_fact else None,
                conflict=conflict,
                uses=[*map(rule_of, rules.reading(key))] if is_fact else [],
            )
        )
    return rows


def _conflict(key: str, definition: PropertyDefinition | None) -> str:
    if key in BUILT_IN_KEYS:
        return "built-in"
    return "attribute" if definition is not None else ""


def find_facts(*, now: datetime) -> bool:
    """Count the keys that were never counted, and those whose time has come, and define what is new; whether there was
    anything to do."""
    defined = PropertyDefinition.objects.filter(source="fact").exclude(key__in=ReportedFact.objects.values("key"))
    note_keys(list(defined.values_list("key", flat=True)), now)
    waiting = ReportedFact.objects.filter(counted_at=None).order_by("id")
    due = ReportedFact.objects.filter(counted_at__lte=now - EVERY).order_by("counted_at")
    todo = list(waiting.values_list("key", flat=True)) or list(due.values_list("key", flat=True)[:FACTS_PER_RUN])
    for key in todo:
        try:
            _count(key, now)
        except (OperationalError, InterfaceError):
            raise
        except Exception:  # one key must not keep the others from their counts; it is tried again in an hour
            log.exception("fact_not_counted", key=key)
            counted_at(key, now)
    if todo:
        notify("fleet")
    return bool(todo)


def _count(key: str, now: datetime) -> None:
    """Count the last values of one key, and let its definition follow."""
    with transaction.atomic():
        reported = ReportedFact.objects.select_for_update().get(key=key)
        having = Device.objects.filter(facts__has_key=key).exclude(admission="retired")
        kinds = dict(having.order_by().values_list(kind_expression(key)).annotate(n=Count("id")))
        kinds.pop(None, None)
        definition = PropertyDefinition.objects.filter(key=key).first()
        before = definition.type if definition is not None and definition.source == "fact" else ""
        if key in BUILT_IN_KEYS or (definition is not None and definition.source != "fact"):
            definition = None
        else:
            definition = _follow(key, definition, type_of(_kinds(kinds)), now)
        reported.kinds, reported.devices, reported.counted_at = kinds, sum(kinds.values()), now
        reported.incompatible_values, reported.incompatible_count = [], 0
        reported.save()
    if definition is None:
        return
    # outside of that transaction, some thousands at a time, so that no check-in waits for all of them
    if definition.type == FieldType.VERSION:
        if before == definition.type:
            _mend_keys(key, now)
        else:
            _rekey(key, FieldType.VERSION)
    reported.incompatible_values, reported.incompatible_count = _incompatible_values(key, FieldType(definition.type))
    write_incompatible_values(reported)


def _follow(
    key: str, definition: PropertyDefinition | None, found: tuple[FieldType, bool] | None, now: datetime
) -> PropertyDefinition | None:
    """The definition of a fact as its values are now. A person's choice stands, and so does the type of a fact that a
    rule reads: nothing moves by itself."""
    if definition is None:
        if found is None:
            return None
        label = key.replace("_", " ").capitalize()
        try:
            with transaction.atomic():
                made = write_definition(
                    PropertyDefinition(key=key, source="fact", found=True), {"label": label, "type": found[0].value}
                )
        except IntegrityError:  # somebody defined an attribute of this key a moment ago
            return None
        sentence = f"Found the fact {key}, {made.type}, in what devices report"
        record(now=now, actor=None, kind="fact", object_id=made.pk, sentence=sentence)
        return made
    if definition.found and found and found[0].value != definition.type and not rules_naming(key):
        before = definition.type
        write_definition(definition, {"type": found[0].value})
        sentence = f"The fact {key} is {definition.type} from now on; it was {before}"
        record(now=now, actor=None, kind="fact", object_id=definition.pk, sentence=sentence)
    return definition


def _incompatible_values(key: str, kind: FieldType) -> tuple[list[dict[str, Any]], int]:
    """The commonest values that do not count, each with its devices, and how many devices report any such."""
    spec = FieldSpec(key=key, type=kind, label=key, source="fact")
    wrong = Device.objects.filter(facts__has_key=key).exclude(admission="retired").exclude(has_value(spec))
    rows = wrong.order_by().values_list(JsonText(F("facts"), Value(key))).annotate(n=Count("id")).order_by("-n")
    return [{"value": str(v)[:200], "devices": n} for v, n in rows[:MOST_MISFITS]], wrong.count()


def _rekey(key: str, kind: FieldType) -> None:
    """Keep the sort keys of a fact where it is a version, and only there."""
    versions = [key] if kind is FieldType.VERSION else []
    ids = list(Device.objects.filter(facts__has_key=key).order_by("id").values_list("pk", flat=True))
    _write_keys(key, ids, versions)


def _mend_keys(key: str, now: datetime) -> None:
    """Give sort keys to versions that lack them: they were reported in the moment in which the fact was defined."""
    spec = FieldSpec(key=key, type=FieldType.VERSION, label=key, source="fact")
    lacking = Device.objects.filter(facts__has_key=key).exclude(has_value(spec)).values_list("pk", f"facts__{key}")
    ids = [pk for pk, value in lacking if fits(value, FieldType.VERSION)]
    if ids:
        _write_keys(key, ids, [key])
        if rules_naming(key):
            MembershipQueueEntry.objects.note(ids, now)


def _write_keys(key: str, ids: Sequence[int], versions: Sequence[str]) -> None:
    for start in range(0, len(ids), CHUNK):
        with transaction.atomic():
            rows = Device.objects.by_ids(ids[start : start + CHUNK]).order_by("id").select_for_update(no_key=True)
            keys = {str(pk): fact_sort_keys(facts, versions) for pk, facts in rows.values_list("pk", "facts")}
            write_version_keys(key, keys)


def define_fact(
    key: str, *, label: str, type: FieldType, unit: str = "", note: str = "", actor: User | None, now: datetime
) -> PropertyDefinition:
    """Say beforehand what devices will report, so that rules may name it. Its type is found anew once they do.

    Raises:
        Invalid: something has this key.
    """
    with transaction.atomic():
        if key in BUILT_IN_KEYS or PropertyDefinition.objects.filter(key=key).exists():
            raise Invalid("/key", f"There is a field called {key} already.")
        fields = {"label": label, "type": type.value, "unit": unit, "note": note, "found": True}
        made = write_definition(PropertyDefinition(key=key, source="fact"), fields)
        sentence = f"Defined the fact {key} before devices report it"
        record(now=now, actor=actor, kind="fact", object_id=made.pk, sentence=sentence)
        notify("fleet")
    return made


def change_fact(
    key: str,
    *,
    actor: User | None,
    now: datetime,
    label: str | None = None,
    unit: str | None = None,
    note: str | None = None,
    type: FieldType | None = None,
    agreement: Agreement | None = None,
) -> PropertyDefinition:
    """Describe a fact, or say what type it is; what is None stays. A type that a person chose is kept.

    Raises:
        Invalid: facts cannot have this type.
        Conflict: a saved rule would no longer be understood.
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    if type is not None and type not in FOUND:
        raise Invalid("/type", f"A fact is one of {', '.join(t.value for t in FOUND)}.")
    with gated(agreement, now=now, cause=f"the type of {key} changed"):
        known: PropertyDefinition = PropertyDefinition.objects.select_for_update().get(key=key, source="fact")
        before = {"label": known.label, "type": known.type, "unit": known.unit, "note": known.note}
        retyped = type is not None and type.value != known.type
        given = {"label": label, "unit": unit, "note": note}
        fields: dict[str, Any] = {k: v for k, v in given.items() if v is not None}
        if type is not None:
            fields |= {"type": type.value, "found": False}
        write_definition(known, fields)
        if retyped and type is not None:
            if broken := check_saved_rules(key):
                raise Conflict(
                    f"The rule of “{broken[0].name}” would no longer be understood. Change it first.",
                    uses=[{"kind": "group", "id": g.pk, "sentence": f"The rule of “{g.name}”"} for g in broken],
                )
            _rekey(key, type)
            having = Device.objects.filter(facts__has_key=key).order_by("id")
            MembershipQueueEntry.objects.note(having.values_list("pk", flat=True), now)
        sentence = f"Changed the fact {key}"
        record(now=now, actor=actor, kind="fact", object_id=known.pk, sentence=sentence, before=before, after=fields)
        count_anew(key)  # what does not fit is another matter now
    notify("fleet")
    return known


def _kinds(counts: Mapping[str, int]) -> dict[FieldType, int]:
    return {FieldType(k): n for k, n in counts.items()}
