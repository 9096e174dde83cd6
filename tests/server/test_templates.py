"""Command templates: the built-in ones as the core has them, own ones, and which devices can do what one asks."""

from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import CommandTemplate, When
from herald.commands.reach import audience_of, unable_rule
from herald.commands.templates import write_built_in
from herald.deliveries.models import Delivery
from herald.fleet.models import DeviceModel
from herald.groups.services import explain_rule
from herald_core.actions import BUILT_IN
from herald_core.parameters import schema_problems
from tests.factories import NOW, make_device, make_model, make_static

pytestmark = pytest.mark.django_db
V1 = "/api/v1/command-templates"
STROKES = {"type": "integer", "title": "Strokes", "minimum": 1, "maximum": 10, "default": 2}
SCHEMA = {"type": "object", "properties": {"strokes": STROKES}, "required": [], "additionalProperties": False}


def named(model: DeviceModel, **fields: Any) -> dict[str, Any]:
    offer = {"model": model.pk, "from_version": "2.6.0", "to_version": ""}
    given = {"name": "Exercise the valve", "action": "named", "action_name": "exercise_valve", "schema": SCHEMA}
    return {**given, "models": [offer], **fields}


def test_the_built_in_ones_are_those_of_the_core_also_after_another_start(client: APIClient) -> None:
    CommandTemplate.objects.filter(key="restart").update(name="Reboot", minutes=1)
    write_built_in()
    rows = client.get(V1).json()
    assert [r["key"] for r in rows] == [b.key for b in BUILT_IN]
    assert rows[0]["name"] == "Restart" and rows[0]["minutes"] == 5 and rows[0]["is_built_in"]


def test_parameters_of_built_in_ones_are_such_as_the_interface_has_fields_for() -> None:
    for built_in in BUILT_IN:
        properties = {
            key: {k: v for k, v in value.items() if k not in ("pattern", "x-secret")}
            for key, value in built_in.schema["properties"].items()
        }
        assert schema_problems({**built_in.schema, "properties": properties}) == [], built_in.key


def test_an_action_that_a_maker_named_is_for_the_models_that_offer_it(client: APIClient) -> None:
    offers, other = make_model("Rill V2"), make_model("Sill 400")
    made = client.post(V1, named(offers), format="json")
    assert made.status_code == 201 and made.json()["key"] == "exercise-the-valve", made.json()
    new, old, wrong = (
        make_device(model=offers, firmware="2.6.1"),
        make_device(model=offers, firmware="2.5.9"),
        make_device(model=other, firmware="2.6.1"),
    )
    silent = make_device(model=offers, firmware=None)
    group = make_static("All", [new, old, wrong, silent])
    template = CommandTemplate.objects.get(key="exercise-the-valve")
    draft = ScheduleDraft(template=template, include=[group], when=When.NOW, parameters={"strokes": 3})
    whom = audience_of(draft)
    assert [d.pk for d in whom.able] == [new.pk]
    assert {d.pk for d in whom.unable} == {old.pk, wrong.pk, silent.pk}
    for device in (new, old, wrong, silent):  # what the interface links to finds the same
        assert explain_rule(unable_rule(draft), device, now=NOW)[0] == (device.pk != new.pk)
    create_schedule(draft, actor=None, now=NOW)
    order = Delivery.objects.select_related("occurrence__template").get().occurrence
    assert order is not None
    assert order.order == {"action": "named", "action_name": "exercise_valve", "parameters": {"strokes": 3}}


def test_one_made_from_a_built_in_action_has_its_parameters_filled(client: APIClient) -> None:
    body = {
        "name": "Errors of a week",
        "action": "logs",
        "defaults": {"hours": 168, "level": "error"},
        "harm": "gentle",
    }
    made = client.post(V1, body, format="json").json()
    assert made["schema"]["properties"]["hours"]["default"] == 168
    assert made["models"] == []
    template = CommandTemplate.objects.get(key=made["key"])
    group = make_static("G", [make_device()])
    schedule = create_schedule(ScheduleDraft(template=template, include=[group], when=When.NOW), actor=None, now=NOW)
    assert schedule.parameters == {"hours": 168, "level": "error"}


@pytest.mark.parametrize(
    ("change", "pointer"),
    [
        ({"action_name": ""}, "/action_name"),
        ({"models": []}, "/models"),
        ({"schema": {"type": "array"}}, "/schema"),
        ({"schema": {**SCHEMA, "properties": {"Strokes": STROKES}}}, "/schema/properties/Strokes"),
        ({"schema": {**SCHEMA, "properties": {"x": {"type": "object"}}}}, "/schema/properties/x/type"),
        ({"schema": {**SCHEMA, "properties": {"x": {**STROKES, "default": 99}}}}, "/schema/properties/x/default"),
        ({"schema": {**SCHEMA, "properties": {"x": {"type": "string", "pattern": "(a+)+$"}}}},
         "/schema/properties/x/pattern"),
        ({"schema": {**SCHEMA, "required": ["nothing"]}}, "/schema/required"),
        ({"minutes": 0}, "/minutes"),
        ({"action": "re_enrol", "action_name": "", "schema": {}, "models": []}, "/harm"),
        ({"action": "logs", "action_name": "", "schema": {}, "models": [], "defaults": {"days": 1}}, "/defaults/days"),
        ({"action": "logs", "action_name": "", "schema": {}, "models": [], "defaults": {"hours": 0}},
         "/defaults/hours"),
    ],
)  # fmt: skip
def test_what_does_not_fit_is_said_beside_its_place(client: APIClient, change: dict[str, Any], pointer: str) -> None:
    answer = client.post(V1, named(make_model("Rill V2"), **change), format="json")
    assert answer.status_code == 422, answer.json()
    assert answer.json()["errors"][0]["pointer"] == pointer
    assert not CommandTemplate.objects.filter(is_built_in=False).exists()


def test_versions_of_an_offer_are_versions_and_in_order(client: APIClient) -> None:
    model = make_model("Rill V2")
    for versions, end in ((("x y", ""), "from_version"), (("3.0", "2.0"), "to_version")):
        offer = {"model": model.pk, "from_version": versions[0], "to_version": versions[1]}
        answer = client.post(V1, named(model, models=[offer]), format="json").json()
        assert answer["errors"][0]["pointer"] == f"/models/0/{end}"


def test_built_in_ones_stay_as_they_are_and_used_ones_stay(client: APIClient) -> None:
    model = make_model("Rill V2")
    assert client.put(f"{V1}/restart", named(model), format="json").status_code == 409
    assert client.delete(f"{V1}/restart").status_code == 409
    client.post(V1, named(model), format="json")
    assert client.post(V1, named(model), format="json").status_code == 409  # the name is taken
    group = make_static("G", [make_device(model=model, firmware="2.6.0")])
    used = {"template": "Exercise the valve", "include": ["G"], "when": "now", "devices": 1}
    schedule = client.post("/api/v1/schedules", used, format="json").json()
    refused = client.delete(f"{V1}/exercise-the-valve")
    assert refused.status_code == 409 and "1 scheduled command not ended" in refused.json()["detail"]
    client.post(f"/api/v1/schedules/{schedule['id']}/end")
    assert client.delete(f"{V1}/exercise-the-valve").status_code == 204
    again = client.post("/api/v1/schedules", used, format="json")
    assert again.status_code == 422 and again.json()["errors"][0]["pointer"] == "/template"
    assert group.pk and client.get(f"/api/v1/schedules/{schedule['id']}").json()["template"]["is_retired"]
