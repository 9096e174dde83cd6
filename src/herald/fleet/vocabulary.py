"""The fields that rules may name in this fleet, and devices as records of those fields."""

from collections.abc import Collection, Mapping
from datetime import datetime
from typing import Any, NamedTuple

from herald.fleet.models import Custodian, Device, DeviceModel, PropertyDefinition, Site
from herald.fleet.presence import presence_of
from herald_core.facts import fits
from herald_core.rules import FieldSpec, FieldType, Record, Vocabulary

#: The Python types that a JSON value of a property may have; anything else counts as missing.
_FITS: Mapping[FieldType, tuple[type, ...]] = {
    FieldType.TEXT: (str,),
    FieldType.CHOICE: (str,),
    FieldType.DATE: (str,),
    FieldType.VERSION: (str,),
    FieldType.NUMBER: (int, float),
    FieldType.YES_NO: (bool,),
}
#: Types of which not every text is a value. Attributes were looked at when they were set; facts are as reported.
_LOOKED_AT = (FieldType.DATE, FieldType.VERSION)


def load_vocabulary() -> Vocabulary:
    """The built-in fields and the properties defined for this fleet."""
    return Vocabulary.with_fields(
        tuple(
            FieldSpec(
                key=p.key,
                type=FieldType(p.type),
                label=p.label,
                choices=tuple(p.choices),
                unit=p.unit,
                source=p.source,
                default=p.default,
                required=p.required,
            )
            for p in PropertyDefinition.objects.order_by("key")
        )
    )


def attribute_defaults(vocabulary: Vocabulary) -> dict[str, Any]:
    """The attributes that a new device gets where nothing is said."""
    return {s.key: s.default for s in vocabulary.fields.values() if s.default is not None}


def load_records(device_ids: Collection[int], vocabulary: Vocabulary, now: datetime) -> dict[int, dict[str, Any]]:
    """Devices by id as rules see them, all but their groups."""
    models = {m.pk: m for m in DeviceModel.objects.all()}
    sites = {s.pk: s for s in Site.objects.all()}
    custodians = {c.pk: c for c in Custodian.objects.all()}
    properties = [s for s in vocabulary.fields.values() if s.source != "device"]
    wanted = [
        (
            s.key,
            s.source == "attribute",
            _FITS[s.type],
            s.type is FieldType.YES_NO,
            s.type if s.source == "fact" and s.type in _LOOKED_AT else None,
        )
        for s in properties
    ]
    records = {}
    # tuples of what rules may name, not whole devices: half the time
    for row in Device.objects.by_ids(device_ids).values_list(*_Row._fields):
        device = _Row(*row)
        model, site = models[device.model_id], sites.get(device.site_id or 0)
        custodian = custodians.get(device.custodian_id or 0)
        record: dict[str, Any] = {
            "uid": device.uid,
            "name": device.name,
            "serial": device.serial or None,
            "model": model.name,
            "family": model.family or None,
            "hardware": device.hardware_revision or None,
            "firmware": device.firmware,
            "site": site.name if site else None,
            "region": (site.region or None) if site else None,
            "time_zone": device.time_zone or None,
            "custodian": custodian.name if custodian else None,
            "custodian_tag": frozenset(custodian.tags) if custodian else frozenset(),
            "tag": frozenset(device.tags),
            "presence": presence_of(device.last_check_in, device.check_in_interval_seconds, now),
            "admission": device.admission,
            "first_seen": device.first_seen,
            "last_check_in": device.last_check_in,
        }
        for key, of_attributes, types, is_yes_no, looked_at in wanted:
            value = (device.attributes if of_attributes else device.facts).get(key)
            if (
                isinstance(value, types)
                and isinstance(value, bool) == is_yes_no
                and (looked_at is None or fits(value, looked_at))
            ):
                record[key] = value
        records[device.id] = record
    return records


class _Row(NamedTuple):
    """The columns of a device that rules may name."""

    id: int
    uid: str
    name: str
    serial: str
    model_id: int
    hardware_revision: str
    firmware: str | None
    site_id: int | None
    time_zone: str
    custodian_id: int | None
    tags: list[str]
    attributes: dict[str, Any]
    facts: dict[str, Any]
    admission: str
    check_in_interval_seconds: int
    last_check_in: datetime | None
    first_seen: datetime | None


def record_with_groups(record: Mapping[str, Any], groups: Collection[str]) -> Record:
    """A record with the names of the groups that the device is in."""
    return {**record, "group": frozenset(groups)}
