"""Verbs on attribute definitions: make, change with what would not fit, delete where nothing uses it."""

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from django.db import transaction

from herald.fleet import editing
from herald.fleet.models import Device, PropertyDefinition, ReportedFact
from herald.fleet.properties import count_anew
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.consequences.acceptance import Agreement, Consequences, consequences_of, require
from herald.groups.consequences.cascade import Records, RuleIndex, differences, effects_of, rules_naming
from herald.groups.membership import lock_membership
from herald.groups.models import Group
from herald.groups.rules import check_saved_rules
from herald.http.errors import Conflict, Invalid
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.properties import DoesNotFit, read_property
from herald_core.rules import FieldSpec, FieldType
from herald_core.rules.fields import BUILT_IN_KEYS

CHUNK = 5000
_KEY = re.compile(r"[a-z][a-z0-9_]{0,39}\Z", re.ASCII)


@dataclass(frozen=True, kw_only=True)
class Definition:
    """An attribute as it is written down."""

    key: str
    label: str
    type: FieldType
    unit: str = ""
    choices: Sequence[str] = ()
    note: str = ""
    #: what a new device gets where nothing is said; None for nothing
    default: Any = None
    required: bool = False


@dataclass(frozen=True, kw_only=True)
class AttributeRow:
    """An attribute with how many devices have a value, how many have none, and the groups whose rules read it."""

    definition: PropertyDefinition
    devices: int
    without: int
    groups: list[Group]


@dataclass(frozen=True, kw_only=True)
class IncompatibleValue:
    """A value in the fleet that would not fit, and on how many devices it is."""

    value: str
    devices: int
    why: str


def list_attributes() -> list[AttributeRow]:
    """Every attribute, by key."""
    definitions, rules = list(PropertyDefinition.objects.attributes()), RuleIndex()
    fleet, having = Device.objects.count(), Device.objects.attribute_counts([d.key for d in definitions])
    return [
        AttributeRow(definition=d, devices=having[d.key], without=fleet - having[d.key], groups=rules.reading(d.key))
        for d in definitions
    ]


def make_attribute(definition: Definition, *, actor: User | None, now: datetime) -> PropertyDefinition:
    """Define an attribute, before or after devices arrive.

    Raises:
        Invalid: the key is none or taken, or a choice has no choices.
    """
    _check(definition)
    with transaction.atomic():
        if definition.key in BUILT_IN_KEYS or PropertyDefinition.objects.filter(key=definition.key).exists():
            raise Invalid("/key", f"There is a field called {definition.key} already.")
        if ReportedFact.objects.filter(key=definition.key).exists():
            raise Invalid("/key", f"Devices report a fact under the key {definition.key}; choose another.")
        made = editing.write_definition(PropertyDefinition(key=definition.key, source="attribute"), _fields(definition))
        sentence = f"Defined the attribute {made.key} ({made.label}), {made.type}"
        record(now=now, actor=actor, kind="attribute", object_id=made.pk, sentence=sentence)
        notify("fleet")
    return made


def incompatible_values(definition: Definition) -> list[IncompatibleValue]:
    """The values in the fleet that a definition would not take, the commonest first."""
    spec = _spec(definition)
    counts: Counter[tuple[str, str]] = Counter()
    for value in Device.objects.with_attribute(definition.key).values_list(f"attributes__{definition.key}", flat=True):
        try:
            read_property(value, spec)
        except DoesNotFit as error:
            counts[str(value), str(error)] += 1
    return [IncompatibleValue(value=v, devices=n, why=why) for (v, why), n in counts.most_common()]


def change_attribute(
    definition: Definition, *, actor: User | None, now: datetime, agreement: Agreement | None = None
) -> PropertyDefinition:
    """Change an attribute; its values are kept in the form of the new type.

    Raises:
        Conflict: values in the fleet, or rules, would not fit; with the list of them.
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    _check(definition)
    with transaction.atomic():
        lock_membership()
        locked = PropertyDefinition.objects.attributes().select_for_update()
        known: PropertyDefinition = locked.get(key=definition.key)
        unfit = incompatible_values(definition)
        if unfit:
            n = sum(m.devices for m in unfit)
            raise Conflict(
                f"{n} devices have a value that would not fit, such as “{unfit[0].value}”: {unfit[0].why}.",
                incompatible_values=[m.__dict__ for m in unfit[:100]],
            )
        before = {"label": known.label, "type": known.type, "choices": known.choices}
        retyped = known.type != definition.type.value
        editing.write_definition(known, _fields(definition))
        if broken := check_saved_rules(definition.key):
            raise Conflict(
                f"The rule of “{broken[0].name}” would no longer be understood. Change it first.",
                uses=[{"kind": "group", "id": g.pk, "sentence": f"The rule of “{g.name}”"} for g in broken],
            )
        if retyped:
            if agreement is not None:
                require(_consequences(definition, now), agreement)
            _convert(definition, now)
        sentence = f"Changed the attribute {known.key}"
        record(now=now, actor=actor, kind="attribute", object_id=known.pk, sentence=sentence, before=before)
        notify("fleet")
    return known


def delete_attribute(key: str, *, actor: User | None, now: datetime) -> None:
    """Delete an attribute that no device and no rule uses.

    Raises:
        Conflict: something uses it; with the list.
    """
    with transaction.atomic():
        known = PropertyDefinition.objects.attributes().select_for_update().get(key=key)
        devices, uses = Device.objects.with_attribute(key).count(), rules_naming(key)
        if devices or uses:
            parts = [f"{devices} devices have a value"] if devices else []
            parts += [f"{u.within} reads it" for u in uses]
            raise Conflict(
                f"{key} is in use: {'; '.join(parts)}. Clear the values and change the rules first.",
                uses=[u.__dict__ for u in uses],
                devices=devices,
            )
        record(now=now, actor=actor, kind="attribute", object_id=known.pk, sentence=f"Deleted the attribute {key}")
        editing.forget_definition(known)
        count_anew(key)  # devices may report it, and the key is free now
        notify("fleet")


def _check(definition: Definition) -> None:
    if not _KEY.match(definition.key):
        raise Invalid("/key", "A reference name is a small letter, then up to 39 small letters, digits or underlines.")
    if (definition.type is FieldType.CHOICE) != bool(definition.choices):
        raise Invalid("/choices", "A choice has choices to choose from; other types have none.")
    _default(definition)


def _default(definition: Definition) -> Any:
    """The default as it is stored with devices.

    Raises:
        Invalid: it does not fit the attribute's own type or choices.
    """
    if definition.default in (None, ""):
        return None
    try:
        return read_property(definition.default, _spec(definition))
    except DoesNotFit as error:
        raise Invalid("/default", f"The default does not fit: {error}.") from error


def _spec(definition: Definition) -> FieldSpec:
    return FieldSpec(
        key=definition.key,
        type=definition.type,
        label=definition.label,
        choices=tuple(definition.choices),
        unit=definition.unit,
        source="attribute",
    )


def _fields(definition: Definition) -> dict[str, Any]:
    return {
        "label": definition.label,
        "type": definition.type.value,
        "unit": definition.unit,
        "choices": list(dict.fromkeys(definition.choices)),
        "note": definition.note,
        "default": _default(definition),
        "required": definition.required,
    }


def _consequences(definition: Definition, now: datetime) -> Consequences:
    """What converting the values does to groups: 9 is less than 10, and "9" is not."""
    spec, key = _spec(definition), definition.key
    ids = list(Device.objects.with_attribute(key).order_by("id").values_list("pk", flat=True))

    def after(records: Records) -> Records:
        values = dict(Device.objects.by_ids(list(records)).values_list("pk", f"attributes__{key}"))
        return {pk: {**r, key: read_property(values[pk], spec)} for pk, r in records.items()}

    effects = effects_of(ids, after, frozenset({key}), now=now)
    return consequences_of(differences(effects))


def _convert(definition: Definition, now: datetime) -> None:
    """Values in the form of the new type: the text "12" becomes the number 12."""
    vocabulary, spec = load_vocabulary(), _spec(definition)
    ids = list(Device.objects.with_attribute(definition.key).order_by("id").values_list("pk", flat=True))
    for start in range(0, len(ids), CHUNK):
        states = editing.read_states(ids[start : start + CHUNK], lock=True)
        for state in states.values():
            attributes = dict(state["attributes"])
            attributes[definition.key] = read_property(attributes[definition.key], spec)
            state["attributes"] = attributes
        editing.write_states(states, vocabulary, now=now)


def changed(known: PropertyDefinition, **fields: Any) -> Definition:
    """The definition that is there, with some of it changed."""
    present = Definition(
        key=known.key,
        label=known.label,
        type=FieldType(known.type),
        unit=known.unit,
        choices=tuple(known.choices),
        note=known.note,
        default=known.default,
        required=known.required,
    )
    return replace(present, **fields)
