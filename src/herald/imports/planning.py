"""What the rows of a file would do: each checked against the fleet, nothing written."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import Any

from herald.fleet.editing import read_states
from herald.fleet.models import (
    DEFAULT_INTERVAL_SECONDS,
    Admission,
    Custodian,
    Device,
    DeviceModel,
    Site,
    announced_uid,
)
from herald.fleet.vocabulary import attribute_defaults
from herald.imports.reading import Row
from herald_core.properties import DoesNotFit, read_interval, read_property, read_tag, read_zone
from herald_core.rules import FieldSpec, FieldType, Vocabulary
from herald_core.text import closest, fold, is_storable, nfc

CHUNK = 2000
#: Fields of a file that are not attributes.
OWN_FIELDS = (
    *("uid", "name", "serial", "model", "hardware", "site", "custodian", "tag", "admission"),
    *("own_time_zone", "check_in_interval"),
)
_PART = {"tag": "tags"}
_NEW: Mapping[str, Any] = {
    "serial": "",
    "model": None,
    "hardware": "",
    "tags": [],
    "attributes": {},
    "site": None,
    "custodian": None,
    "admission": Admission.ADMITTED.value,
    "own_time_zone": "",
    "interval": DEFAULT_INTERVAL_SECONDS,
}


@dataclass(frozen=True, kw_only=True)
class RowError:
    """A cell that cannot be taken."""

    row: int
    column: str
    value: str
    reason: str


@dataclass(kw_only=True)
class Plan:
    """What a chunk of rows would do: devices to make by uid, to write by id, how many stay, what is wrong."""

    new: dict[str, dict[str, Any]] = field(default_factory=dict)
    changed: dict[int, dict[str, Any]] = field(default_factory=dict)
    unchanged: int = 0
    wrong: list[RowError] = field(default_factory=list)
    wrong_rows: int = 0
    rows: int = 0
    tags: set[str] = field(default_factory=set)


def guess_mapping(headings: Iterable[str], vocabulary: Vocabulary) -> dict[str, str]:
    """Which field each column means, by its name or label; columns that mean none are left out."""
    names: dict[str, str] = {}
    for spec in vocabulary.fields.values():
        if spec.key in OWN_FIELDS or spec.source == "attribute":
            names[_plain(spec.key)] = names[_plain(spec.label)] = spec.key
    names |= {_plain(key): key for key in OWN_FIELDS}
    names |= {"tags": "tag", "hardwarerevision": "hardware", "deviceid": "uid", "id": "uid", "makersid": "uid"}
    found: dict[str, str] = {}
    for heading in headings:
        key = names.get(_plain(heading))
        if key and key not in found.values():
            found[heading] = key
    return found


def _plain(text: str) -> str:
    return "".join(c for c in fold(text) if c.isalnum())


class Planner:
    """Plans rows chunk by chunk; remembers the uids and names of the rows before."""

    def __init__(self, mapping: Mapping[str, str], vocabulary: Vocabulary) -> None:
        self.mapping = mapping
        self.vocabulary = vocabulary
        self.models = dict(DeviceModel.objects.values_list("name", "id"))
        self.sites = dict(Site.objects.values_list("name", "id"))
        self.custodians = dict(Custodian.objects.values_list("name", "id"))
        self.defaults = attribute_defaults(vocabulary)
        self.required = [s for s in vocabulary.fields.values() if s.required]
        self.seen_uids: dict[str, int] = {}
        self.seen_names: dict[str, int] = {}

    def chunks(self, rows: Iterator[Row]) -> Iterator[Plan]:
        """A plan for every `CHUNK` rows."""
        while chunk := list(islice(rows, CHUNK)):
            yield self.plan(chunk)

    def plan(self, rows: Sequence[Row]) -> Plan:
        """What these rows would do."""
        plan = Plan(rows=len(rows))
        read = [
            (row, *self._read(row)) if not row.problem else (row, {}, [self._wrong(row, "", "", row.problem)])
            for row in rows
        ]
        self._name_by_serial([values for _, values, wrong in read if not wrong and "uid" not in values])
        for row, values, wrong in read:
            wrong += self._check_uid(row, values, wrong)
        uids = [values["uid"] for _, values, wrong in read if not wrong]
        ids = dict(Device.objects.filter(uid__any=uids).values_list("uid", "pk"))
        states = read_states(list(ids.values()))
        wanted = [values["name"] for _, values, _ in read if values.get("name")] + uids
        owners = dict(Device.objects.filter(name__any=wanted).values_list("name", "uid"))
        for row, values, wrong in read:
            if not wrong:
                wrong = self._apply(row, values, ids, states, owners, plan)
            plan.wrong += wrong
            plan.wrong_rows += bool(wrong)
        return plan

    def _apply(
        self,
        row: Row,
        values: dict[str, Any],
        ids: Mapping[str, int],
        states: Mapping[int, Mapping[str, Any]],
        owners: Mapping[str, str],
        plan: Plan,
    ) -> list[RowError]:
        uid = values.pop("uid")
        pk = ids.get(uid)
        before: Mapping[str, Any] = states[pk] if pk is not None else {**_NEW, "name": uid, "attributes": self.defaults}
        if set(values.get("tags", ())) == set(before["tags"]):
            values.pop("tags", None)  # in whatever order
        attributes = {**before["attributes"], **values.pop("attributes")}
        cleared = values.pop("cleared") - (set(self.defaults) if pk is None else set())
        after = {**before, **values, "attributes": {k: v for k, v in attributes.items() if k not in cleared}}
        if after["model"] is None:
            return [self._wrong(row, "model", "", "a device that is new needs a model")]
        lacking = [s for s in self.required if s.key not in after["attributes"]]
        if lacking and (pk is None or any(s.key in before["attributes"] for s in lacking)):
            return [self._wrong(row, s.key, "", f"{s.label} is required") for s in lacking]
        name = after["name"]
        owner, line = owners.get(name), self.seen_names.setdefault(name, row.number)
        if (owner is not None and owner != uid) or line != row.number:
            where = f"the device {owner} has it" if owner and owner != uid else f"row {line} has it"
            return [self._wrong(row, "name", name, f"a name belongs to one device, and {where}")]
        plan.tags.update(after["tags"])
        if pk is None:
            plan.new[uid] = after
        elif after != before:
            plan.changed[pk] = after
        else:
            plan.unchanged += 1
        return []

    def _read(self, row: Row) -> tuple[dict[str, Any], list[RowError]]:
        values: dict[str, Any] = {"attributes": {}, "cleared": set()}
        wrong: list[RowError] = []
        for column, key in self.mapping.items():
            if column in row.cells:
                try:
                    self._take(key, row.cells[column], values)
                except DoesNotFit as error:
                    wrong.append(self._wrong(row, column, row.cells[column], str(error)))
        return values, wrong

    def _name_by_serial(self, rows: Sequence[dict[str, Any]]) -> None:
        """Rows with a serial and no uid are about the device that has the serial, or announce one that will."""
        serials = {values["serial"] for values in rows if values.get("serial")}
        owners: dict[str, list[str]] = {}
        for serial, uid in Device.objects.filter(serial__any=list(serials)).values_list("serial", "uid"):
            owners.setdefault(serial, []).append(uid)
        for values in rows:
            serial = values.get("serial")
            if serial and len(owners.get(serial, ())) < 2:
                values["uid"] = owners[serial][0] if serial in owners else announced_uid(serial)

    def _check_uid(self, row: Row, values: dict[str, Any], wrong: list[RowError]) -> list[RowError]:
        uid = values.get("uid")
        if not wrong and not uid:
            if values.get("serial"):
                return [self._wrong(row, "serial", values["serial"], "several devices have it; give the device's UID")]
            return [self._wrong(row, "uid", "", "every row needs the UID of its device, or its serial")]
        if uid and (line := self.seen_uids.setdefault(uid, row.number)) != row.number:
            return [self._wrong(row, "uid", uid, f"row {line} is about this device already")]
        return []

    def _take(self, key: str, cell: Any, values: dict[str, Any]) -> None:
        spec = self.vocabulary.get(key)
        empty = cell is None or (isinstance(cell, str) and not cell.strip())
        if spec is not None and spec.source == "attribute":
            if empty:
                values["cleared"].add(key)
            else:
                values["attributes"][key] = read_property(cell, spec)
        elif key in ("uid", "name"):
            if not empty:
                values[key] = _short(cell, 80)
        elif key in ("serial", "hardware"):
            values[key] = "" if empty else _short(cell, 80 if key == "serial" else 20)
        elif key in ("model", "site", "custodian"):
            known = {"model": self.models, "site": self.sites, "custodian": self.custodians}[key]
            if not (empty and key == "model"):
                values[key] = None if empty else _known(_short(cell, 80), known, key)
        elif key == "tag":
            words = cell if isinstance(cell, list) else str(cell).replace(",", ";").split(";")
            values["tags"] = list(dict.fromkeys(read_tag(str(w)) for w in words if str(w).strip()))
        elif key == "admission" and not empty:
            values["admission"] = str(cell).strip().lower()
            if values["admission"] not in Admission.values:
                raise DoesNotFit(f"one of {', '.join(Admission.values)} is expected")
        elif key == "own_time_zone":
            values["own_time_zone"] = "" if empty else read_zone(str(cell))
        elif key == "check_in_interval" and not empty:
            values["interval"] = read_interval(cell)

    def _wrong(self, row: Row, column: str, value: Any, reason: str) -> RowError:
        heading = next((h for h, key in self.mapping.items() if column in (h, key)), column)
        return RowError(row=row.number, column=heading[:120], value=str(value)[:200], reason=reason[:300])


_TEXT = FieldSpec(key="text", type=FieldType.TEXT, label="Text")


def _short(cell: Any, most: int) -> str:
    text = str(read_property(cell, _TEXT))
    if len(text) > most or not is_storable(text):
        raise DoesNotFit(f"at most {most} characters are taken")
    return text


def _known(name: str, known: Mapping[str, int], what: str) -> int:
    found = known.get(nfc(name))
    if found is None:
        near = closest(name, known)
        raise DoesNotFit(f"there is no {what} of this name{f'; did you mean {near}?' if near else ''}")
    return found
