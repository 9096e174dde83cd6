"""The fields of a fleet, and the values that exist in it."""

import pytest
from django.db import IntegrityError, transaction

from herald.fleet.models import Custodian, Device, PropertyDefinition, Tag
from herald.fleet.vocabulary import load_records, load_vocabulary
from herald.groups.values import value_counts
from herald_core.rules import FieldType
from tests.factories import NOW, make_device, make_devices, make_site, make_static

pytestmark = pytest.mark.django_db


def counts(key: str, beginning: str = "") -> list[tuple[str, int]]:
    spec = load_vocabulary().get(key)
    assert spec is not None
    return value_counts(spec, now=NOW, beginning=beginning)


def define(key: str, kind: str, source: str = "attribute") -> None:
    PropertyDefinition.objects.create(key=key, label=key, type=kind, source=source)


def test_values_come_most_frequent_first() -> None:
    make_devices(2, tags=["lab", "spare"])
    make_device(tags=["lab"])
    assert counts("tag") == [("lab", 3), ("spare", 2)]
    assert counts("tag", "SP") == [("spare", 2)]
    assert counts("model") == [("Sill 400", 3)]
    assert counts("presence") == [("on time", 3)]
    assert counts("last_check_in") == []


def test_values_of_attributes_and_facts() -> None:
    define("crop", "text")
    define("uplink", "text", "fact")
    make_device(attributes={"crop": "olive"}, facts={"uplink": "satellite"})
    make_device(attributes={"crop": "olive"})
    assert counts("crop") == [("olive", 2)]
    assert counts("uplink") == [("satellite", 1)]


def test_values_of_groups_and_custodians() -> None:
    custodian = Custodian.objects.create(name="north", email="n@example.com", tags=["on-call"])
    devices = make_devices(2, custodian=custodian)
    make_static("G", devices)
    make_static("Empty", [])
    assert counts("group") == [("G", 2), ("Empty", 0)]
    assert counts("custodian_tag") == [("on-call", 2)]
    assert counts("custodian") == [("north", 2)]


def test_a_built_in_field_keeps_its_meaning() -> None:
    define("model", "number")
    spec = load_vocabulary().get("model")
    assert spec is not None and spec.type is FieldType.TEXT


def test_an_attribute_and_a_fact_never_share_a_key() -> None:
    define("battery", "number", "fact")
    with pytest.raises(IntegrityError), transaction.atomic():
        define("battery", "number", "attribute")


@pytest.mark.parametrize("key", ["Battery", "2nd", "a-b", ""])
def test_keys_are_plain(key: str) -> None:
    with pytest.raises(IntegrityError, match="property_key_plain"), transaction.atomic():
        define(key, "text")


def test_records_leave_out_values_of_another_kind() -> None:
    define("class_no", "number")
    define("leased", "yes/no")
    device = make_device(attributes={"class_no": True, "leased": 1}, serial="", firmware=None, site=make_site("S"))
    record = load_records([device.pk], load_vocabulary(), NOW)[device.pk]
    assert "class_no" not in record and "leased" not in record
    assert (record["serial"], record["firmware"], record["site"], record["region"]) == (None, None, "S", None)
    assert record["custodian_tag"] == frozenset()


@pytest.mark.parametrize("change", [{"admission": "maybe"}, {"check_in_interval_seconds": 0}, {"name": ""}])
def test_the_database_refuses_devices_that_cannot_be(change: dict[str, object]) -> None:
    device = make_device()
    with pytest.raises(IntegrityError), transaction.atomic():
        Device.objects.filter(pk=device.pk).update(**change)


def test_names_uids_and_secrets_are_unique() -> None:
    first, second = make_devices(2)
    for column in ("uid", "name", "secret_hash"):
        with pytest.raises(IntegrityError), transaction.atomic():
            Device.objects.filter(pk=second.pk).update(**{column: getattr(first, column)})


@pytest.mark.parametrize("slug", ["Frost", "frost zone", "-a", ""])
def test_tags_are_lower_case_with_dashes(slug: str) -> None:
    with pytest.raises(IntegrityError, match="tag_slug_plain"), transaction.atomic():
        Tag.objects.create(slug=slug)
