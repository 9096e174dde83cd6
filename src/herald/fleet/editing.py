"""Reading and writing what operators say of devices, for many at once."""

from collections.abc import Collection, Mapping
from datetime import datetime
from typing import Any, TypeVar

from django.contrib.postgres.fields import ArrayField
from django.db.models import BigIntegerField, F, IntegerField, JSONField, TextField, Value
from django.db.models.functions import Cast

from herald.db.copy import copy_rows
from herald.db.expressions import JsonMember, JsonText, JsonTextArray, JsonWith, JsonWithout
from herald.fleet.models import (
    Custodian,
    Device,
    DeviceModel,
    EnrolmentCode,
    MembershipQueueEntry,
    PropertyDefinition,
    Site,
    Tag,
)
from herald.fleet.presence import presence_of
from herald_core.edits import State
from herald_core.facts import fits
from herald_core.rules import FieldType, Vocabulary
from herald_core.versions import version_key_or_none

T = TypeVar("T", Site, DeviceModel, Custodian, Site | DeviceModel | Custodian)


def read_states(device_ids: Collection[int], *, lock: bool = False) -> dict[int, dict[str, Any]]:
    """The editable state of devices by id; locked until the transaction ends, if wanted."""
    devices = Device.objects.by_ids(device_ids).order_by("id")
    if lock:
        devices = devices.select_for_update(of=("self",), no_key=True)
    return {
        pk: dict(zip(_COLUMNS, values, strict=True)) for pk, *values in devices.values_list("id", *_COLUMNS.values())
    }


#: The parts of a state and the columns that hold them.
_COLUMNS = {
    "name": "name",
    "serial": "serial",
    "model": "model_id",
    "hardware": "hardware_revision",
    "tags": "tags",
    "attributes": "attributes",
    "site": "site_id",
    "custodian": "custodian_id",
    "admission": "admission",
    "own_time_zone": "own_time_zone",
    "interval": "check_in_interval_seconds",
}


def write_states(states: Mapping[int, State], vocabulary: Vocabulary, *, now: datetime) -> None:
    """Write states in one statement, and mark the devices, so that their groups follow."""
    if not states:
        return
    zones = dict(Site.objects.values_list("id", "time_zone"))
    versions = version_attributes(vocabulary)
    key = Cast(F("id"), TextField())

    def column(name: str) -> Value:
        return Value({str(pk): state[name] for pk, state in states.items()}, JSONField())

    zones_in_force = Value({str(pk): _zone_in_force(state, zones) for pk, state in states.items()}, JSONField())
    new_keys = Value({str(pk): sort_keys(state["attributes"], versions) for pk, state in states.items()}, JSONField())
    Device.objects.by_ids(list(states)).update(
        name=JsonText(column("name"), key),
        serial=JsonText(column("serial"), key),
        model_id=Cast(JsonText(column("model"), key), BigIntegerField()),
        hardware_revision=JsonText(column("hardware"), key),
        tags=JsonTextArray(JsonMember(column("tags"), key)),
        attributes=JsonMember(column("attributes"), key),
        site_id=Cast(JsonText(column("site"), key), BigIntegerField()),
        custodian_id=Cast(JsonText(column("custodian"), key), BigIntegerField()),
        admission=JsonText(column("admission"), key),
        own_time_zone=JsonText(column("own_time_zone"), key),
        check_in_interval_seconds=Cast(JsonText(column("interval"), key), IntegerField()),
        time_zone=JsonText(zones_in_force, key),
        version_keys=replaced_keys(versions, JsonMember(new_keys, key)),
    )
    MembershipQueueEntry.objects.note(list(states), now)


def replaced_keys(keys: Collection[str], now: Any) -> JsonWith:
    """The sort keys of versions with those of `keys` replaced by what is in the object `now`."""
    return JsonWith(JsonWithout(F("version_keys"), Value(list(keys), ArrayField(TextField()))), now)


def version_attributes(vocabulary: Vocabulary) -> list[str]:
    """The keys of the attributes that are versions."""
    return [s.key for s in vocabulary.fields.values() if s.source == "attribute" and s.type is FieldType.VERSION]


def sort_keys(values: Mapping[str, Any], versions: Collection[str]) -> dict[str, str]:
    """The sort keys of those values that are versions, for the database to compare by."""
    texts = {key: values[key] for key in versions if isinstance(values.get(key), str)}
    return {key: found for key, text in texts.items() if (found := version_key_or_none(text)) is not None}


def fact_sort_keys(facts: Mapping[str, Any], versions: Collection[str]) -> dict[str, str]:
    """The sort keys of those facts that are versions: those values that count."""
    return sort_keys({key: facts[key] for key in versions if fits(facts.get(key), FieldType.VERSION)}, versions)


def write_version_keys(key: str, keys: Mapping[str, Mapping[str, str]]) -> None:
    """Write the sort key of one property of devices; `keys` holds, by the device's id as text, the key or nothing."""
    now = JsonMember(Value(dict(keys), JSONField()), Cast(F("id"), TextField()))
    Device.objects.by_ids([int(pk) for pk in keys]).update(version_keys=replaced_keys([key], now))


def make_devices(uids: Mapping[str, State], vocabulary: Vocabulary, *, now: datetime) -> None:
    """Make devices known before they first call, by uid, and mark them, so that their groups follow."""
    zones = dict(Site.objects.values_list("id", "time_zone"))
    versions = version_attributes(vocabulary)
    copy_rows(
        [
            Device(
                uid=uid,
                **{column: state[part] for part, column in _COLUMNS.items()},
                time_zone=_zone_in_force(state, zones),
                version_keys=sort_keys(state["attributes"], versions),
            )
            for uid, state in uids.items()
        ]
    )
    MembershipQueueEntry.objects.note(Device.objects.filter(uid__any=list(uids)).values_list("pk", flat=True), now)


def _zone_in_force(state: State, site_zones: Mapping[int, str]) -> str:
    """The time zone by which a device goes: its own, else its site's, else UTC."""
    return str(state["own_time_zone"]) or site_zones.get(state["site"], "UTC")


def after_edit(record: Mapping[str, Any], state: State, tables: "Tables", now: datetime) -> dict[str, Any]:
    """A device's record as rules would see it once the state were written."""
    site, custodian = tables.sites.get(state["site"]), tables.custodians.get(state["custodian"])
    result = {k: v for k, v in record.items() if k not in tables.attribute_keys}
    result |= {k: v for k, v in state["attributes"].items() if k in tables.attribute_keys}
    result |= {
        "name": state["name"],
        "tag": frozenset(state["tags"]),
        "admission": state["admission"],
        "site": site.name if site else None,
        "region": (site.region or None) if site else None,
        "custodian": custodian.name if custodian else None,
        "custodian_tag": frozenset(custodian.tags) if custodian else frozenset(),
    }
    result["time_zone"] = state["own_time_zone"] or (site.time_zone if site else "UTC")
    result["presence"] = presence_of(record.get("last_check_in"), state["interval"], now)
    return result


class Tables:
    """The small tables that records are made of, read once."""

    def __init__(self, vocabulary: Vocabulary) -> None:
        self.sites = {s.pk: s for s in Site.objects.all()}
        self.custodians = {c.pk: c for c in Custodian.objects.all()}
        self.attribute_keys = {s.key for s in vocabulary.fields.values() if s.source == "attribute"}


def ensure_tags(slugs: Collection[str]) -> None:
    """Make the tags that are not there yet."""
    Tag.objects.bulk_create([Tag(slug=s) for s in sorted(set(slugs))], ignore_conflicts=True)


def rename_tag(old: str, new: str) -> None:
    """Let the tag's own row go by the new name; where that is taken, the old row goes."""
    ensure_tags([new])
    known = Tag.objects.filter(slug=old).first()
    if known is not None:
        target = Tag.objects.get(slug=new)
        if not target.note:
            target.note, target.colour = known.note, known.colour
            target.save(update_fields=["note", "colour"])
        known.delete()


def describe_tag(slug: str, *, note: str, colour: int) -> None:
    """Write a tag's note and colour slot; makes the tag where it is new."""
    Tag.objects.update_or_create(slug=slug, defaults={"note": note, "colour": colour})


def forget_tag(slug: str) -> None:
    """Delete a tag's row; devices are not looked at."""
    Tag.objects.filter(slug=slug).delete()


def write_definition(definition: PropertyDefinition, fields: Mapping[str, Any]) -> PropertyDefinition:
    """Write an attribute's definition, new or known."""
    for name, value in fields.items():
        setattr(definition, name, value)
    definition.save()
    return definition


def forget_definition(definition: PropertyDefinition) -> None:
    """Delete an attribute's definition; values are not looked at."""
    definition.delete()


def write_object(thing: T) -> T:
    """Write a site, model or custodian, new or known."""
    thing.save()
    return thing


def follow_object(thing: Site | DeviceModel | Custodian, *, now: datetime) -> None:
    """Let the devices that refer to a changed thing follow: their zone in force, and their groups."""
    field = {Site: "site", DeviceModel: "model", Custodian: "custodian"}[type(thing)]
    devices = Device.objects.filter(**{field: thing})
    if isinstance(thing, Site):
        devices.filter(own_time_zone="").update(time_zone=thing.time_zone)
    MembershipQueueEntry.objects.note(devices.order_by("id").values_list("pk", flat=True), now)


def forget_object(thing: Site | DeviceModel | Custodian) -> None:
    """Delete a thing; refused by the database while anything refers to it."""
    thing.delete()


def write_code(code: EnrolmentCode) -> EnrolmentCode:
    """Write an enrolment code."""
    code.save()
    return code


def forget_code(code: EnrolmentCode) -> None:
    """Delete an enrolment code."""
    code.delete()
