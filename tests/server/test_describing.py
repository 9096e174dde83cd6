"""Tags and attributes: renamed, merged, retyped and deleted with their devices and rules."""

from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.catalog.attributes import (
    Definition,
    change_attribute,
    changed,
    delete_attribute,
    incompatible_values,
    make_attribute,
)
from herald.catalog.tags import delete_tag, describe_tag, list_tags, preview_renaming, rename_tag
from herald.fleet.models import Device, PropertyDefinition, Tag
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.models import Group
from herald.groups.rule_queries import matching
from herald.groups.rules import read_rule
from herald.http.errors import Conflict, Invalid, NotFound
from herald_core.rules import FieldType
from tests.factories import NOW, make_device, make_devices, make_rule_group, make_user

pytestmark = pytest.mark.django_db


def define(key: str = "slot", kind: str = "text", **fields: Any) -> PropertyDefinition:
    return make_attribute(
        Definition(key=key, label=key.title(), type=FieldType(kind), **fields),
        actor=None,
        now=NOW,
    )


def with_type(known: PropertyDefinition, kind: str, **fields: Any) -> Definition:
    return changed(known, type=FieldType(kind), **fields)


def members(name: str) -> set[str]:
    return set(Group.objects.get(name=name).memberships.values_list("device__name", flat=True))


def test_merging_a_tag_moves_devices_rules_and_members_at_once() -> None:
    make_device(name="slip", tags=["frost_zone", "lab"])
    make_device(name="right", tags=["frost-zone"])
    make_device(name="both", tags=["frost_zone", "frost-zone"])
    make_rule_group("Frost", "tag = frost-zone")
    make_rule_group("Slips", 'tag = "frost_zone" and not tag = spare')

    told = preview_renaming("frost_zone", "Frost-Zone", now=NOW)
    assert (told.devices, [g.name for g in told.rules]) == (2, ["Slips"])
    assert {(e.group.name, e.joins, e.leaves) for e in told.groups} == {("Frost", 1, 0), ("Slips", 1, 0)}

    rename_tag("frost_zone", "frost-zone", actor=None, now=NOW)

    assert {d.name: d.tags for d in Device.objects.all()} == {
        "slip": ["lab", "frost-zone"],
        "right": ["frost-zone"],
        "both": ["frost-zone"],
    }
    assert Group.objects.get(name="Slips").rule == "tag = frost-zone and not tag = spare"
    assert members("Slips") == {"slip", "right", "both"}
    assert [t.slug for t in list_tags() if t.slug.startswith("frost")] == ["frost-zone"]


def test_a_renamed_tag_keeps_what_was_said_of_it() -> None:
    make_device(tags=["old"])
    describe_tag("old", note="Why", colour=3, actor=None, now=NOW)

    done = rename_tag("old", "new", actor=None, now=NOW)

    assert done.merges is False
    tag = Tag.objects.get(slug="new")
    assert (tag.note, tag.colour, Tag.objects.filter(slug="old").exists()) == ("Why", 3, False)
    with pytest.raises(NotFound):
        rename_tag("old", "other", actor=None, now=NOW)
    with pytest.raises(Invalid):
        rename_tag("new", "new", actor=None, now=NOW)


def test_a_tag_that_a_rule_names_is_not_deleted() -> None:
    make_devices(2, tags=["lab", "x"])
    make_rule_group("Lab", "tag any of (lab, spare)")

    with pytest.raises(Conflict, match="“Lab”"):
        delete_tag("lab", actor=None, now=NOW)
    assert delete_tag("x", actor=None, now=NOW) == 2
    assert set(map(tuple, Device.objects.values_list("tags", flat=True))) == {("lab",)}


def test_a_changed_type_says_which_values_would_not_fit_and_converts_those_that_do() -> None:
    known = define("slot", "text")
    make_devices(2, attributes={"slot": "12"})
    odd = make_device(attributes={"slot": "twelve"})

    found = incompatible_values(with_type(known, "number"))
    assert [(m.value, m.devices) for m in found] == [("twelve", 1)]
    with pytest.raises(Conflict, match="1 devices"):
        change_attribute(with_type(known, "number"), actor=None, now=NOW)

    Device.objects.filter(pk=odd.pk).update(attributes={})
    change_attribute(with_type(known, "number"), actor=None, now=NOW)
    vocabulary = load_vocabulary()
    assert matching(read_rule("slot > 11.5", vocabulary), vocabulary, NOW).count() == 2


def test_a_rule_that_would_no_longer_be_understood_keeps_the_attribute_as_it_is() -> None:
    known = define("slot", "text")
    make_rule_group("By slot", "slot starts with 1")

    with pytest.raises(Conflict, match="By slot"):
        change_attribute(with_type(known, "number"), actor=None, now=NOW)


def test_an_attribute_in_use_is_not_deleted() -> None:
    define("slot")
    define("spare_slot")
    make_device(attributes={"slot": "a"})
    make_rule_group("By slot", "slot is set")

    with pytest.raises(Conflict) as caught:
        delete_attribute("slot", actor=None, now=NOW)
    assert (caught.value.extra["devices"], caught.value.extra["uses"][0]["kind"]) == (1, "group")
    delete_attribute("spare_slot", actor=None, now=NOW)
    assert not PropertyDefinition.objects.filter(key="spare_slot").exists()


@pytest.mark.parametrize("key", ["Slot", "1st", "model", "with blank", "é", "a" * 41])
def test_a_key_that_rules_could_not_name_is_refused(key: str) -> None:
    with pytest.raises(Invalid):
        define(key)


def test_the_calls_answer_with_devices_and_rules() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    make_device(tags=["frost_zone"])
    make_rule_group("Slips", "tag = frost_zone")

    draft = {"key": "slot", "label": "Slot", "type": "choice", "choices": ["a", "b"]}
    assert client.post("/api/v1/attributes", draft, format="json").status_code == 201
    assert client.post("/api/v1/attributes", draft, format="json").status_code == 422
    assert client.patch("/api/v1/attributes/slot", {"choices": ["a"]}, format="json").json()["choices"] == ["a"]
    assert client.post("/api/v1/attributes/slot/incompatible-values", {"type": "number"}, format="json").json() == []
    assert client.delete("/api/v1/attributes/slot").status_code == 204
    assert client.get("/api/v1/tags").json()[0]["groups"][0]["name"] == "Slips"
    told = client.post("/api/v1/tags/frost_zone/rename/preview", {"to": "frost"}, format="json").json()
    assert (told["merges"], told["devices"], told["rules"][0]["name"]) == (False, 1, "Slips")
    assert client.put("/api/v1/tags/frost_zone", {"note": "a slip"}, format="json").status_code == 204
    assert client.delete("/api/v1/tags/frost_zone").status_code == 409
    assert client.post("/api/v1/tags/frost_zone/rename", {"to": "frost"}, format="json").status_code == 200
