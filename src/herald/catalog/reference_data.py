"""Verbs on what devices refer to: sites, models and custodians. Each counts devices and rules first."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from django.db import models, transaction
from django.db.models import Count, ProtectedError

from herald.edits.change import read_tags
from herald.fleet import editing
from herald.fleet.models import Custodian, Device, DeviceModel, Site
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.consequences.acceptance import Agreement, consequences_of, require
from herald.groups.consequences.cascade import (
    GroupEffect,
    Records,
    RuleIndex,
    differences,
    effects_of,
    groups_reading,
    rules_naming,
)
from herald.groups.membership import lock_membership
from herald.groups.models import Group
from herald.groups.services import replace_in_rules
from herald.http.errors import Conflict, InvalidFields, NotFound
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.rules.rename import rename_value
from herald_core.text import closest, is_storable, nfc
from herald_core.timing.clocks import is_zone, zone_names

ReferenceObject = Site | DeviceModel | Custodian
Fields = Mapping[str, Any]


@dataclass(frozen=True, kw_only=True)
class ReferenceTable:
    """A kind of row: its table, the field of rules that names it, and the other fields of rules that follow it."""

    word: str
    table: type[Site] | type[DeviceModel] | type[Custodian]
    #: fields of rules by the column that they show
    shown: Mapping[str, str]

    @property
    def touched(self) -> frozenset[str]:
        return frozenset(self.shown.values())


SITES = ReferenceTable(word="site", table=Site, shown={"name": "site", "region": "region", "time_zone": "time_zone"})
MODELS = ReferenceTable(word="model", table=DeviceModel, shown={"name": "model", "family": "family"})
CUSTODIANS = ReferenceTable(word="custodian", table=Custodian, shown={"name": "custodian", "tags": "custodian_tag"})


@dataclass(frozen=True, kw_only=True)
class Row:
    """A row with how many devices refer to it and the groups whose rules name it."""

    row: ReferenceObject
    devices: int
    groups: list[Group] = field(default_factory=list)


@dataclass(frozen=True, kw_only=True)
class Effects:
    """What changing a row would do: devices that refer to it, rules rewritten, groups that gain or lose."""

    devices: int
    rules: list[Group]
    groups: list[GroupEffect]


def list_objects(kind: ReferenceTable) -> list[Row]:
    """Every row of a kind, by name."""
    rows: models.QuerySet[Any] = kind.table._default_manager.annotate(n=Count("device")).order_by("name")
    rules = RuleIndex()
    return [Row(row=t, devices=t.n, groups=rules.naming(kind.word, t.name)) for t in rows]


def create_object(kind: ReferenceTable, fields: Fields, *, actor: User | None, now: datetime) -> ReferenceObject:
    """A new site, model or custodian.

    Raises:
        InvalidFields: a field does not fit, or the name is taken.
    """
    with transaction.atomic():
        made = editing.write_object(kind.table(**_checked(kind, fields, None)))
        sentence = f"Made the {kind.word} “{made.name}”"
        record(now=now, actor=actor, kind=kind.word, object_id=made.pk, sentence=sentence)
        notify("fleet")
    return made


def preview_change(kind: ReferenceTable, row: ReferenceObject, fields: Fields, *, now: datetime) -> Effects:
    """What changing a row would do to devices, rules and groups.

    Raises:
        InvalidFields: a field does not fit.
    """
    fields = _checked(kind, fields, row)
    vocabulary = load_vocabulary()
    renamed = fields.get("name", row.name)
    rules = groups_reading(kind.word, row.name) if renamed != row.name else []
    after_values = {kind.shown[k]: _as_seen(v) for k, v in fields.items() if k in kind.shown}

    referring = Device.objects.filter(**{kind.word: row}).order_by("id")
    own_zones = set(referring.exclude(own_time_zone="").values_list("pk", flat=True))

    def after(records: Records) -> Records:
        changed = {}
        for pk, seen in records.items():
            changed[pk] = {**seen, **after_values}
            if pk in own_zones:
                changed[pk]["time_zone"] = seen.get("time_zone")
        return changed

    ids = list(referring.values_list("pk", flat=True))
    rewritten = {g.pk: rename_value(g.rule, kind.word, row.name, renamed, vocabulary) for g in rules}
    return Effects(
        devices=len(ids),
        rules=rules,
        groups=effects_of(ids, after, kind.touched, now=now, rules=rewritten),
    )


def change_object(
    kind: ReferenceTable,
    row: ReferenceObject,
    fields: Fields,
    *,
    actor: User | None,
    now: datetime,
    agreement: Agreement | None = None,
) -> ReferenceObject:
    """Change a row, on its devices and in the rules that name it.

    Raises:
        InvalidFields: a field does not fit, or the name is taken.
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    with transaction.atomic():
        lock_membership()
        row = kind.table._default_manager.select_for_update().get(pk=row.pk)
        if agreement is not None:
            effects = preview_change(kind, row, fields, now=now).groups
            require(consequences_of(differences(effects)), agreement)
        before = {k: getattr(row, k) for k in fields}
        old = row.name
        devices = Device.objects.filter(**{kind.word: row}).count()
        for name, value in _checked(kind, fields, row).items():
            setattr(row, name, value)
        if isinstance(row, DeviceModel) and row.name != old:
            row.former_names = list(dict.fromkeys([*row.former_names, old]))
        editing.write_object(row)
        editing.follow_object(row, now=now)
        rules = replace_in_rules(kind.word, old, row.name, now=now) if row.name != old else []
        sentence = f"Changed the {kind.word} “{old}”: {devices} devices, {len(rules)} rules"
        after = {k: getattr(row, k) for k in fields}
        record(now=now, actor=actor, kind=kind.word, object_id=row.pk, sentence=sentence, before=before, after=after)
        notify("fleet")
    return row


def delete_object(kind: ReferenceTable, row: ReferenceObject, *, actor: User | None, now: datetime) -> None:
    """Delete a row that nothing refers to.

    Raises:
        Conflict: devices, rules or something else refers to it; with the list.
    """
    with transaction.atomic():
        uses = rules_naming(kind.word, row.name)
        parts = [f"{u.within} names it" for u in uses]
        pk = row.pk
        try:
            with transaction.atomic():
                editing.forget_object(row)
        except ProtectedError as error:
            counts: dict[str, int] = {}
            for one in error.protected_objects:
                words = str(one._meta.verbose_name_plural)
                counts[words] = counts.get(words, 0) + 1
            parts = [f"{n} {words} refer to it" for words, n in counts.items()] + parts
        if parts:
            raise Conflict(
                f"The {kind.word} “{row.name}” is in use: {'; '.join(parts)}. Change those first.",
                uses=[u.__dict__ for u in uses],
            )
        sentence = f"Deleted the {kind.word} “{row.name}”"
        record(now=now, actor=actor, kind=kind.word, object_id=pk, sentence=sentence)
        notify("fleet")


def _as_seen(value: Any) -> Any:
    return frozenset(value) if isinstance(value, list) else value or None


def _checked(kind: ReferenceTable, fields: Fields, row: ReferenceObject | None) -> dict[str, Any]:
    """The fields as they are stored.

    Raises:
        InvalidFields: with every field that does not fit.
    """
    errors: list[tuple[str, str]] = []
    found = {k: nfc(v).strip() if isinstance(v, str) else v for k, v in fields.items()}
    errors += [(f"/{k}", "It holds a character that cannot be stored.") for k, v in found.items() if not _fits(v)]
    if "name" in found or row is None:
        name = str(found.get("name", ""))
        others = kind.table._default_manager.filter(name=name).exclude(pk=row.pk if row else 0)
        if not name or len(name) > 80:
            errors.append(("/name", f"A {kind.word} has a name of 1 to 80 characters."))
        elif _fits(name) and others.exists():
            errors.append(("/name", f"There is a {kind.word} called “{name}” already."))
    zone = found.get("time_zone")
    if zone is not None and not is_zone(zone):
        near = closest(str(zone), zone_names())
        hint = f" Did you mean {near}?" if near else ""
        errors.append(("/time_zone", f"{str(zone)[:60]} is no time zone, like Europe/Lisbon.{hint}"))
    if "tags" in found:
        found["tags"] = list(read_tags(found["tags"], "/tags", errors))
    if errors:
        raise InvalidFields(errors)
    return found


def _fits(value: Any) -> bool:
    return not isinstance(value, str) or is_storable(value)


def object_of(kind: ReferenceTable, pk: int) -> ReferenceObject:
    """The row with this id.

    Raises:
        NotFound: there is none.
    """
    found = kind.table._default_manager.filter(pk=pk).first()
    if found is None:
        raise NotFound(f"There is no {kind.word} {pk}.")
    return found
