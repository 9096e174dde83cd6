"""The API as scripts see it: contract, refusals, who may do what."""

import json
import re
from collections.abc import Iterator
from typing import Any

import pytest
from knox.models import AuthToken
from rest_framework.test import APIClient

from herald.fleet.models import Device
from herald.groups.models import Group
from herald.http import errors
from herald.people.tokens import make_token
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout
from herald_launch.steps import ROOT
from tests.factories import NOW, make_device, make_devices, make_image, make_rule_group, make_static, make_user

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
V1 = "/api/v1"


@pytest.fixture
def api() -> APIClient:
    """An engineer's script, with a token."""
    return with_token("operator")


def with_token(role: str) -> APIClient:
    client = APIClient()
    token, _ = make_token(make_user(role), name="script", days=None, now=NOW)
    client.credentials(HTTP_AUTHORIZATION=f"Bearer {token}")
    return client


def problem(response: Any, status: int) -> dict[str, Any]:
    assert response.status_code == status, response.content
    assert response["Content-Type"].startswith("application/problem+json")
    body: dict[str, Any] = response.json()
    assert body["status"] == status
    assert body["type"].startswith("urn:brisk-herald:problem:")
    assert body["title"] and body["detail"]
    return body


# -- who may ---------------------------------------------------------------------------------------


@pytest.mark.parametrize("path", ["devices", "groups", "rollouts", "images", "schedules", "now", "record", "schema"])
def test_nothing_is_shown_without_signing_in(path: str) -> None:
    problem(APIClient().get(f"{V1}/{path}"), 401)


def test_health_needs_no_sign_in() -> None:
    assert APIClient().get(f"{V1}/health").json()["ok"] is True


def test_a_reader_looks_and_tries_but_changes_nothing() -> None:
    reader = with_token("viewer")
    assert reader.get(f"{V1}/groups").status_code == 200
    assert reader.post(f"{V1}/rules/preview", {"rule": "everything"}, format="json").status_code == 200
    problem(reader.post(f"{V1}/groups", {"name": "X", "kind": "static"}, format="json"), 403)
    assert Group.objects.count() == 0


def test_a_token_is_stored_hashed_and_a_wrong_one_is_refused() -> None:
    person = APIClient()
    person.force_login(make_user())
    token = person.post(f"{V1}/tokens", {"name": "nightly export"}, format="json").json()["token"]
    assert not AuthToken.objects.filter(digest=token).exists()
    other = APIClient()
    other.credentials(HTTP_AUTHORIZATION=f"Bearer {token}")
    assert other.get(f"{V1}/groups").status_code == 200
    other.credentials(HTTP_AUTHORIZATION="Bearer " + "0" * 64)
    problem(other.get(f"{V1}/groups"), 401)


def test_signing_in_needs_the_csrf_token_and_the_password() -> None:
    user = make_user()
    client = APIClient(enforce_csrf_checks=True)
    body = {"email": user.email.upper(), "password": "a-long-password"}
    problem(client.post(f"{V1}/session", body, format="json"), 403)
    csrf = client.get(f"{V1}/session").json()["csrf"]
    problem(client.post(f"{V1}/session", {**body, "password": "no"}, format="json", HTTP_X_CSRFTOKEN=csrf), 401)
    signed_in = client.post(f"{V1}/session", body, format="json", HTTP_X_CSRFTOKEN=csrf)
    assert signed_in.json()["user"]["email"] == user.email
    assert client.get(f"{V1}/groups").status_code == 200
    client.delete(f"{V1}/session", HTTP_X_CSRFTOKEN=signed_in.json()["csrf"])
    problem(client.get(f"{V1}/groups"), 401)


# -- rules -----------------------------------------------------------------------------------------


def test_preview_and_explain_keep_their_contract(api: APIClient) -> None:
    make_device(name="sill-1", tags=["lab"])
    group = make_rule_group("G", "tag = spare")
    preview = api.post(
        f"{V1}/rules/preview", {"rule": "tag = lab", "limit": 5, "group": group.pk}, format="json"
    ).json()
    assert (preview["count"], preview["joins"], preview["leaves"]) == (1, 1, 0)
    assert preview["devices"][0]["name"] == "sill-1"
    assert preview["took_ms"] >= 0 and preview["as_of"].startswith("2026-11-23T02:00")
    answer = api.post(f"{V1}/rules/explain", {"rule": "tag = labs", "device": "sill-1"}, format="json").json()
    assert answer["member"] is False
    assert set(answer["clauses"][0]) == {"text", "true", "value", "why"}


@pytest.mark.parametrize(
    "rule",
    ["", "modle = x", "battery <", "x" * 1_000_000, "tag any of (", 'name = "\x00"', "🙂", "not", "(((("],
)
def test_a_bad_rule_is_422_with_line_and_column(api: APIClient, rule: str) -> None:
    body = problem(api.post(f"{V1}/rules/preview", {"rule": rule}, format="json"), 422)
    if "line" in body["errors"][0]:
        assert {"line", "column", "message", "expected", "closest"} <= set(body["errors"][0])
    else:
        assert body["errors"][0]["pointer"] == "/rule"


def test_a_character_that_cannot_be_stored_is_refused(api: APIClient) -> None:
    for raw in (r'{"rule": "name = \ud800"}', r'{"rule": "name = \u0000"}'):
        problem(api.post(f"{V1}/rules/preview", raw, content_type="application/json"), 422)


def test_devices_by_rule_come_in_pages(api: APIClient) -> None:
    make_devices(5, tags=["lab"])
    make_device()
    first = api.get(f"{V1}/devices", {"rule": "tag = lab", "limit": 3}).json()
    rest = api.get(f"{V1}/devices", {"rule": "tag = lab", "limit": 3, "cursor": first["next"]}).json()
    assert (first["count"], len(first["devices"]), len(rest["devices"]), rest["next"]) == (5, 3, 2, None)
    assert not {d["id"] for d in first["devices"]} & {d["id"] for d in rest["devices"]}
    problem(api.get(f"{V1}/devices", {"rule": "tag ="}), 422)


def test_fields_and_their_values(api: APIClient) -> None:
    make_devices(2, tags=["lab"])
    fields = {f["key"]: f for f in api.get(f"{V1}/fields").json()}
    assert "any of" in fields["tag"]["operators"]
    assert api.get(f"{V1}/fields/tag/values").json() == [{"value": "lab", "count": 2}]
    problem(api.get(f"{V1}/fields/nothing/values"), 404)


# -- groups ----------------------------------------------------------------------------------------


def test_a_group_is_made_changed_and_deleted(api: APIClient) -> None:
    make_device(tags=["lab"])
    made = api.post(f"{V1}/groups", {"name": "Lab", "rule": "tag = lab"}, format="json")
    assert (made.status_code, made.json()["member_count"]) == (201, 1)
    url = f"{V1}/groups/{made.json()['id']}"
    assert api.patch(url, {"rule": "tag = spare"}, format="json").json()["member_count"] == 0
    problem(api.patch(url, {"rule": "tagg = x"}, format="json"), 422)
    assert api.get(url).json()["rule"] == "tag = spare"
    assert api.delete(url).status_code == 204
    problem(api.get(url), 404)


def test_unknown_devices_and_fields_are_named(api: APIClient) -> None:
    make_device(name="known")
    body = {"name": "G", "kind": "static", "devices": ["known", "sill-9999"]}
    refused = problem(api.post(f"{V1}/groups", body, format="json"), 422)
    assert refused["unknown"] == ["sill-9999"]
    refused = problem(api.post(f"{V1}/groups", {"name": "G", "kind": "static", "colour": 1}, format="json"), 422)
    assert refused["errors"][0]["pointer"].startswith("/colour")
    assert Group.objects.count() == 0


# -- rollouts and schedules ------------------------------------------------------------------------


def draft_body(group: Group, **change: Any) -> dict[str, Any]:
    rings = [{"name": "Canary", "kind": "number", "number": 1}, {"name": "Rest", "kind": "rest"}]
    changes = [{"choice": "image", "image_id": make_image().pk}]
    return {"changes": changes, "include": [group.pk], "rings": rings, **change}


def test_a_rollout_from_draft_to_stop(api: APIClient) -> None:
    draft = api.post(f"{V1}/rollouts", draft_body(make_static("G", make_devices(3))), format="json")
    assert draft.status_code == 201, draft.content
    url = f"{V1}/rollouts/{draft.json()['id']}"
    preflight = api.post(f"{url}/preflight").json()
    assert (preflight["audience"], preflight["reached"]) == (3, 3)
    assert [r["devices"] for r in preflight["rings"]] == [1, 2]
    behind = api.get(f"{url}/preflight/devices", {"outcome": "straight"}).json()
    assert len(behind) == 3
    problem(api.post(f"{url}/pause"), 409)
    refused = problem(api.post(f"{url}/launch", {"devices": 4}, format="json"), 422)
    assert refused["reached"] == 3
    launched = api.post(f"{url}/launch", {"devices": 3}, format="json")
    assert (launched.status_code, launched.json()["state"]) == (202, "launching")
    launching.launch(Rollout.objects.get(), now=NOW)
    listed = api.get(f"{url}/deliveries", {"phase": "waiting", "limit": 2}).json()
    assert (listed["count"], len(listed["deliveries"])) == (3, 2)
    assert listed["deliveries"][0]["waits_for"]["reason"]
    assert len(api.get(f"{url}/deliveries", {"cursor": listed["next"]}).json()["deliveries"]) == 1
    assert sum(len(m["marks"]) for m in api.get(f"{url}/ring-devices").json()) == 3
    assert api.get(f"{url}/progress").json()[0]["confirmed"] == 0
    assert api.post(f"{url}/pause").json()["state"] == "paused"
    assert api.post(f"{url}/resume").json()["state"] == "running"
    assert api.post(f"{url}/stop").json() == {"state": "stopped", "withdrawn": 3, "finishing": 0}
    assert any("Stopped: 3 withdrawn" in e["text"] for e in api.get(f"{url}/timeline").json())
    problem(api.delete(url), 409)


def test_an_empty_audience_is_refused_at_launch(api: APIClient) -> None:
    draft = api.post(f"{V1}/rollouts", draft_body(make_static("Empty", [])), format="json").json()
    refused = problem(api.post(f"{V1}/rollouts/{draft['id']}/launch", {"devices": 0}, format="json"), 422)
    assert refused["type"].endswith(":nobody")


@pytest.mark.parametrize(
    ("change", "pointer"),
    [
        ({"rings": [{"name": "X", "kind": "circle"}]}, "/rings/0/kind"),
        ({"include": [999]}, "/include"),
        ({"changes": [{"choice": "image", "image_id": 999}]}, "/changes/0/image_id"),
        ({"changes": [{"choice": "image"}]}, "/changes/0/image_id"),
        ({"changes": [{"choice": "within"}]}, "/changes/0/within"),
        ({"changes": [{"choice": "newest", "from_version": "a b"}]}, "/changes/0/from_version"),
        ({"plan_version_id": 999}, "/plan_version_id"),
        ({"failure_limit_pct": 0}, "/failure_limit_pct"),
        ({"max_concurrent": -1}, "/max_concurrent"),
        ({"window_start": "25:00", "window_end": "26:00"}, "/window_start"),
    ],
)
def test_every_wrong_field_of_a_draft_has_a_pointer(api: APIClient, change: dict[str, Any], pointer: str) -> None:
    body = problem(api.post(f"{V1}/rollouts", draft_body(make_static("G", []), **change), format="json"), 422)
    assert body["errors"][0]["pointer"] == pointer


def test_a_schedule_is_previewed_and_made(api: APIClient) -> None:
    group = make_static("G", make_devices(2))
    body = {"include": [group.pk], "when": "repeat", "rule": "FREQ=DAILY", "time_of_day": "05:30"}
    preview = api.post(f"{V1}/schedules/preview", body, format="json").json()
    assert preview["devices"] == 2
    first = preview["zones"][0]["firings"][0]
    assert first == {"at": "2026-11-23T05:30:00Z", "local_time": "2026-11-23T05:30", "shift": ""}
    made = api.post(f"{V1}/schedules", body, format="json")
    assert made.status_code == 201, made.content
    url = f"{V1}/schedules/{made.json()['id']}"
    assert made.json()["next_firing"] == "2026-11-23T05:30:00Z"
    assert api.post(f"{url}/run", {"devices": 2}, format="json").json() == {"devices": 2}
    assert api.get(f"{url}/deliveries").json()["count"] == 2
    assert api.post(f"{url}/pause").json()["state"] == "paused"
    assert api.post(f"{url}/end").json()["state"] == "ended"
    problem(api.post(f"{url}/resume"), 409)


def test_other_rooms_answer(api: APIClient) -> None:
    device = make_device(name="d", tags=["lab"])
    make_image()
    assert api.get(f"{V1}/images").json()[0]["fits"] == 1
    now = api.get(f"{V1}/now").json()
    assert (now["devices"], now["heard"], now["decisions"]) == (1, 1, [])
    assert api.get(f"{V1}/devices/{device.uid}").json()["name"] == "d"
    assert api.get(f"{V1}/devices/d/orders").json()["deliveries"] == []
    assert api.get(f"{V1}/devices/d/timeline").json()[-1]["text"] == "first seen"
    problem(api.get(f"{V1}/devices/nobody"), 404)
    assert api.get(f"{V1}/record").json()["entries"][0]["sentence"].startswith("Approved")
    problem(api.get(f"{V1}/nonsense"), 404)


def test_every_domain_error_has_a_code_and_a_status_of_its_own() -> None:
    found = errors.DomainError.__subclasses__()
    assert len({e.code for e in found}) == len(found)
    assert all(400 <= e.status < 500 and e.title and e.__doc__ for e in found)


def test_a_body_that_is_no_json_is_said_so(api: APIClient) -> None:
    problem(api.post(f"{V1}/groups", "{", content_type="application/json"), 400)
    problem(api.post(f"{V1}/groups", "a=b", content_type="text/plain"), 415)
    assert Device.objects.count() == 0


def test_a_rollout_carries_a_name_a_purpose_and_a_ticket(api: APIClient) -> None:
    group, image = make_static("G", make_devices(2)), make_image()
    body = {
        "changes": [{"choice": "image", "image_id": image.pk}],
        "include": [group.pk],
        "rings": [{"name": "All", "kind": "rest"}],
        "name": "Before the frost",
        "purpose": "Valves must not stick",
        "ticket": "OPS-90",
    }
    made = api.post(f"{V1}/rollouts", body, format="json")
    assert made.status_code == 201, made.json()
    number = made.json()["id"]
    for words in ("frost", "ops-90", "stick"):
        assert [r["id"] for r in api.get(f"{V1}/rollouts", {"q": words}).json()["rollouts"]] == [number]
    shown = api.get(f"{V1}/rollouts/{number}").json()
    assert (shown["name"], shown["purpose"], shown["ticket"]) == ("Before the frost", "Valves must not stick", "OPS-90")
    assert api.post(f"{V1}/rollouts", {**body, "name": "x" * 81}, format="json").status_code in (400, 422)


def test_the_sentence_takes_all_of_a_draft_but_what_the_browser_leaves_out(api: APIClient) -> None:
    """A field that a draft gains is worded, or left out by name in `saidOf`: else no draft has a sentence any more."""
    document = json.loads((ROOT / "docs" / "openapi.json").read_text())["components"]["schemas"]
    draft = set(document["RolloutDraftBodyRequest"]["properties"])
    said = set(document["RolloutSentenceBodyRequest"]["properties"])
    browser = (ROOT / "web" / "src" / "rooms" / "rollouts" / "draft.ts").read_text()
    left_out = set(
        re.findall(r"^    (\w+)(?:: _\w+)?,$", browser.partition("function saidOf")[2].partition("...said")[0], re.M)
    )
    assert draft - left_out == said - {"ring_count", "rolls_back_id"}


def choices_in(part: Any, place: str = "") -> Iterator[tuple[str, list[Any]]]:
    """Each place of a description that is one of several things, with these."""
    if isinstance(part, dict):
        if isinstance(part.get("oneOf"), list):
            yield place, part["oneOf"]
        for name, value in part.items():
            yield from choices_in(value, f"{place}/{name}")
    elif isinstance(part, list):
        for n, value in enumerate(part):
            yield from choices_in(value, f"{place}/{n}")


def test_what_is_one_of_several_things_is_never_two_of_them() -> None:
    """Whatever stands beside “anything” would be both, and no answer would be as described."""
    document = json.loads((ROOT / "docs" / "openapi.json").read_text())
    found = dict(choices_in(document))
    assert found
    assert [place for place, parts in found.items() if {} in parts] == []
