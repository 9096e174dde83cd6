"""Sites, models and custodians; attributes with a default, and those that a device may not go without."""

from typing import Any

import pytest
from django.db import transaction
from hypothesis import given, settings
from hypothesis import strategies as st
from rest_framework.test import APIClient

from herald.catalog.attributes import Definition, change_attribute, changed, list_attributes, make_attribute
from herald.catalog.reference_data import (
    CUSTODIANS,
    MODELS,
    SITES,
    change_object,
    create_object,
    delete_object,
    list_objects,
    preview_change,
)
from herald.edits.change import RequestedEdit
from herald.edits.services import Target, preview_edit
from herald.fleet.models import Custodian, Device, DeviceModel, Site
from herald.groups.membership import process_changed_devices
from herald.groups.models import Group
from herald.http.errors import Conflict, Invalid, InvalidFields
from herald_core.rules import FieldType
from tests.factories import NOW, make_device, make_devices, make_image, make_rule_group, make_site, make_user

pytestmark = pytest.mark.django_db
BY: dict[str, Any] = {"actor": None, "now": NOW}


def names(group: Group) -> set[str]:
    return set(group.memberships.values_list("device__name", flat=True))


def test_a_site_that_changes_takes_its_devices_rules_and_groups_along() -> None:
    site = make_site("Hill", "Asia/Kolkata")
    make_device(name="a", site=site)
    make_device(name="own", site=site, own_time_zone="UTC", time_zone="UTC")
    make_device(name="b")
    by_name = make_rule_group("Of the hill", "site = Hill")
    by_zone = make_rule_group("Lisbon", 'time_zone = "Europe/Lisbon"')
    change = {"name": "Height", "time_zone": "Europe/Lisbon"}

    told = preview_change(SITES, site, change, now=NOW)
    assert (told.devices, [g.name for g in told.rules]) == (2, ["Of the hill"])
    assert [(e.group.name, e.joins, e.leaves) for e in told.groups] == [("Lisbon", 1, 0)]
    site.refresh_from_db()
    assert site.name == "Hill"

    change_object(SITES, site, change, **BY)
    process_changed_devices(now=NOW)

    by_name.refresh_from_db()
    assert (by_name.rule, names(by_name), names(by_zone)) == ("site = Height", {"a", "own"}, {"a"})
    assert dict(Device.objects.values_list("name", "time_zone")) == {"a": "Europe/Lisbon", "own": "UTC", "b": "UTC"}


def test_a_custodian_takes_tags_and_a_model_a_family_into_rules() -> None:
    custodian = create_object(CUSTODIANS, {"name": "north", "email": "n@example.com", "tags": ["On Call"]}, **BY)
    device = make_device(custodian=custodian)
    on_call, sills = make_rule_group("On call", "custodian_tag = on-call"), make_rule_group("S", "family = Sill")
    assert names(on_call) == {device.name}

    change_object(CUSTODIANS, custodian, {"tags": []}, **BY)
    change_object(MODELS, device.model, {"family": "Silla"}, **BY)
    process_changed_devices(now=NOW)

    assert (names(on_call), names(sills)) == (set(), set())


@pytest.mark.parametrize(
    ("fields", "says"),
    [
        ({"name": "Hill", "time_zone": "Asia/Calcuta"}, "Did you mean Asia/Calcutta"),
        ({"name": "  ", "time_zone": "UTC"}, "1 to 80"),
        ({"name": "Here", "time_zone": "UTC"}, "already"),
        ({"name": "a\x00b", "time_zone": "UTC"}, "cannot be stored"),
    ],
)
def test_a_site_that_does_not_fit_is_refused(fields: dict[str, Any], says: str) -> None:
    make_site("Here")
    with pytest.raises(InvalidFields, match=says):
        create_object(SITES, fields, **BY)


def test_what_something_refers_to_stays_and_says_to_what() -> None:
    site = make_device(site=make_site("Hill")).site
    make_rule_group("Of the hill", "site = Hill")
    with pytest.raises(Conflict, match=r"1 devices refer to it; the rule of “Of the hill” names it"):
        delete_object(SITES, site, **BY)
    make_image()
    with pytest.raises(Conflict, match="devices refer to it"):
        delete_object(MODELS, DeviceModel.objects.get(), **BY)
    Device.objects.all().delete()
    Group.objects.all().delete()
    delete_object(SITES, site, **BY)
    assert not Site.objects.exists()


def test_the_calls_about_sites_models_and_custodians() -> None:
    make_device()
    client = APIClient()
    client.force_authenticate(make_user())
    made = client.post("/api/v1/sites", {"name": "Hill", "time_zone": "Asia/Kolkata"}, format="json")
    assert (made.status_code, made.data["devices"], made.data["transfers_at_once"]) == (201, 0, 20)
    changed_site = client.patch(f"/api/v1/sites/{made.data['id']}", {"region": "South"}, format="json")
    assert (changed_site.data["region"], changed_site.data["time_zone"]) == ("South", "Asia/Kolkata")
    told = client.post(f"/api/v1/sites/{made.data['id']}/preview", {"name": "H"}, format="json").data
    assert told == {"devices": 0, "rules": [], "groups": []}
    assert client.delete(f"/api/v1/sites/{made.data['id']}").status_code == 204
    assert client.delete("/api/v1/sites/999999").status_code == 404
    assert [m["name"] for m in client.get("/api/v1/models").data] == ["Sill 400"]
    refused = client.post("/api/v1/custodians", {"name": "n", "email": "none"}, format="json")
    assert refused.status_code == 422
    assert [r.row.name for r in list_objects(CUSTODIANS)] == []


def attribute(**fields: Any) -> None:
    make_attribute(Definition(**{"key": "class", "label": "Class", "type": FieldType.TEXT, **fields}), **BY)


def test_a_required_attribute_is_not_cleared_and_who_lacks_it_is_counted() -> None:
    attribute(required=True)
    make_devices(2)
    have = make_device(attributes={"class": "A"})
    row = list_attributes()[0]
    assert (row.devices, row.without) == (1, 2)
    with pytest.raises(InvalidFields, match="Class is required"):
        preview_edit(RequestedEdit(clear_attributes=["class"]), Target(devices=[have.name]), now=NOW)


def test_a_default_fits_its_type_and_the_choices() -> None:
    with pytest.raises(Invalid, match="The default does not fit"):
        attribute(type=FieldType.NUMBER, default="many")
    attribute(type=FieldType.CHOICE, choices=("A", "B"), default="A")
    known = list_attributes()[0].definition
    assert known.default == "A"
    with pytest.raises(Invalid, match="default"):
        change_attribute(changed(known, choices=("B", "C")), **BY)
    change_attribute(changed(known, default=None, required=True), **BY)
    known.refresh_from_db()
    assert (known.default, known.required) == (None, True)


def test_custodians_are_one_name_each() -> None:
    Custodian.objects.create(name="north", email="n@example.com")
    with pytest.raises(InvalidFields, match="custodian called “north”"):
        create_object(CUSTODIANS, {"name": "north", "email": "x@example.com"}, **BY)


CHANGES = st.one_of(
    st.fixed_dictionaries({"name": st.sampled_from(["Hill", "Dale", "Shore"])}),
    st.fixed_dictionaries({"region": st.sampled_from(["", "North", "South"])}),
    st.fixed_dictionaries({"time_zone": st.sampled_from(["UTC", "Asia/Kolkata", "Europe/Lisbon"])}),
)
RULES = (
    "site = Hill",
    "site != Dale",
    "region = North and not site = Shore",
    'time_zone = "Asia/Kolkata"',
    'group = "G0" or region is missing',
)


@settings(max_examples=25)
@given(st.lists(st.sampled_from(["", "North", "South"]), min_size=1, max_size=3), CHANGES, st.integers(1, 3))
def test_what_a_preview_of_a_site_says_of_groups_is_what_changing_it_does(
    regions: list[str], change: dict[str, str], per_site: int
) -> None:
    with transaction.atomic():
        sites = [
            Site.objects.create(name=name, region=region, time_zone="UTC")
            for name, region in zip(("Hill", "Moor", "Fen"), regions, strict=False)
        ]
        for site in sites:
            make_device(site=site, own_time_zone="UTC", time_zone="UTC")
            make_devices(per_site, site=site)
        groups = [make_rule_group(f"G{i}", rule) for i, rule in enumerate(RULES)]
        before = {g.pk: names(g) for g in groups}

        told = preview_change(SITES, sites[0], change, now=NOW)
        change_object(SITES, sites[0], change, **BY)
        process_changed_devices(now=NOW)

        effects = {e.group.pk: (e.joins, e.leaves) for e in told.groups}
        for group in groups:
            after = names(group)
            happened = (len(after - before[group.pk]), len(before[group.pk] - after))
            assert happened == effects.get(group.pk, (0, 0)), Group.objects.get(pk=group.pk).rule
        transaction.set_rollback(True)
