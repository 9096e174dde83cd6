"""Bad input to the fleet's and the groups' calls: said what, where and what to do; nothing is lost by it."""

from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from rest_framework.test import APIClient

from herald.edits.models import Edit
from herald.fleet.models import Device, EnrolmentCode, PropertyDefinition, Tag
from herald.groups.models import Group
from herald.imports import services
from herald.imports.models import Import
from tests.factories import make_device, make_rule_group, make_user

pytestmark = pytest.mark.django_db
RULE_CALLS = ("rules/preview", "rules/sieve", "rules/explain", "rules/compare")
#: Call, body, and the pointer and words of what is said.
REFUSED: tuple[tuple[str, str, Any, str, str], ...] = (
    ("post", "edits", {"target": {"rule": "tag ="}, "add_tags": ["x"]}, "/rule", "Expected a value"),
    ("post", "edits", {"target": {"devices": ["nobody"]}, "add_tags": ["x"]}, "/target/devices", "nobody"),
    ("post", "edits", {"target": {"rule": "everything", "devices": ["d"]}, "add_tags": ["x"]}, "/target", "rule"),
    ("post", "edits", {"target": {"rule": "everything"}, "tags": ["x"]}, "/tags", "not known here"),
    ("post", "edits", {"target": {"rule": "everything"}, "name": "x" * 81}, "/name", "80"),
    ("post", "edits", {"target": {"rule": "everything"}, "admission": "gone"}, "/admission", "retired"),
    ("post", "attributes", {"key": "Slot", "label": "S", "type": "text"}, "/key", "small letter"),
    ("post", "attributes", {"key": "slot", "label": "S", "type": "colour"}, "/type", "not a valid choice"),
    ("post", "attributes", {"key": "slot", "label": "S", "type": "choice"}, "/choices", "choices"),
    ("post", "attributes", {"key": "firmware", "label": "S", "type": "text"}, "/key", "already"),
    ("post", "tags/lab/rename", {"to": "ö"}, "/to", "no tag"),
    ("post", "tags/lab/rename", {}, "/to", "required"),
    ("put", "tags/no tag", {"note": "x", "colour": 9}, "/colour", "7"),
    ("post", "enrolment-codes", {"label": "c", "uses": 0}, "/uses", "1"),
    ("post", "enrolment-codes", {"label": "c", "site": "Nowhere"}, "/site", "no site"),
    ("post", "enrolment-codes", {"label": "c", "expires_at": "tomorrow"}, "/expires_at", "format"),
    ("post", "saved-views", {"name": "", "address": {}}, "/name", "blank"),
    ("post", "saved-views", {"name": "v", "address": []}, "/address", "dictionary"),
)


@pytest.fixture
def client() -> APIClient:
    client = APIClient()
    client.force_authenticate(make_user())
    make_device(name="d", tags=["lab"])
    return client


def allowed(client: APIClient, call: str) -> None:
    """Sign in whose role may make this call: a refusal of the role would say nothing of the body."""
    if call.startswith("enrolment-codes"):
        client.force_authenticate(make_user("administrator"))


def state() -> tuple[int, ...]:
    models: tuple[Any, ...] = (Device, Edit, Tag, PropertyDefinition, EnrolmentCode, Import, Group)
    return tuple(model.objects.count() for model in models)


@pytest.mark.parametrize(("verb", "call", "body", "pointer", "says"), REFUSED)
def test_what_does_not_fit_is_said_with_its_place(
    client: APIClient, verb: str, call: str, body: Any, pointer: str, says: str
) -> None:
    allowed(client, call)
    before = state()
    response = getattr(client, verb)(f"/api/v1/{call}", body, format="json")
    told = response.json()
    assert response.status_code == 422, told
    assert response["Content-Type"].startswith("application/problem+json")
    errors = {e["pointer"]: e["message"] for e in told["errors"]}
    assert says in errors[pointer], errors
    assert state() == before


@pytest.mark.parametrize("call", RULE_CALLS)
@pytest.mark.parametrize("rule", ["", "tag", "tag = ", "colour = red", "(" * 40, "a" * 10_001, "tag = \x00"])
def test_a_rule_that_cannot_be_understood_is_never_a_fault_of_the_server(
    client: APIClient, call: str, rule: str
) -> None:
    about = {"rules/explain": {"device": "d"}, "rules/compare": {"devices": ["d"]}}.get(call, {})
    response = client.post(f"/api/v1/{call}", {"rule": rule, **about}, format="json")
    assert response.status_code == 422
    assert response.json()["errors"][0]["message"]


@pytest.mark.parametrize("call", ["tags/none", "attributes/none", "enrolment-codes/999", "saved-views/999"])
def test_what_is_not_there_cannot_be_deleted(client: APIClient, call: str) -> None:
    allowed(client, call)
    before = state()
    response = client.delete(f"/api/v1/{call}")
    assert (response.status_code, response.json()["status"]) == (404, 404)
    assert state() == before


def test_a_file_that_is_too_large_is_refused_before_it_is_kept(
    client: APIClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(services, "MAX_BYTES", 10)
    file = SimpleUploadedFile("d.csv", b"uid,model\nA,Sill 400\n")
    response = client.post("/api/v1/imports", {"file": file}, format="multipart")
    assert (response.status_code, response.json()["errors"][0]["pointer"]) == (422, "/file")
    assert not Import.objects.exists()


def test_a_group_of_an_attribute_in_use_keeps_both(client: APIClient) -> None:
    PropertyDefinition.objects.create(key="slot", source="attribute", label="Slot", type="text")
    make_rule_group("By slot", "slot = a")
    response = client.delete("/api/v1/attributes/slot")
    assert (response.status_code, response.json()["uses"][0]["kind"]) == (409, "group")
    assert PropertyDefinition.objects.filter(key="slot").exists()
