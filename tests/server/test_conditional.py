"""Scripts are told that what they have is current; browsers keep no answer."""

from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.people.models import User
from herald.people.tokens import make_token
from tests.factories import NOW, make_device, make_user

pytestmark = pytest.mark.django_db
DEVICES = "/api/v1/devices"


@pytest.fixture
def person() -> User:
    return make_user()


@pytest.fixture
def script(person: User) -> APIClient:
    client = APIClient()
    client.credentials(HTTP_AUTHORIZATION=f"Bearer {make_token(person, name='all', days=None, now=NOW)[0]}")
    return client


def ask(client: APIClient, etag: str = "", path: str = DEVICES) -> Any:
    return client.get(path, HTTP_IF_NONE_MATCH=etag) if etag else client.get(path)


def test_what_has_not_changed_is_not_sent_again(script: APIClient) -> None:
    device = make_device()
    first = ask(script)
    again = ask(script, first["ETag"])
    assert (again.status_code, again.content) == (304, b"") and again["ETag"] == first["ETag"]
    assert ask(script, f'"other", {first["ETag"]}').status_code == 304
    device.name = "another"
    device.save()
    changed = ask(script, first["ETag"])
    assert changed.status_code == 200 and changed["ETag"] != first["ETag"] and "another" in changed.content.decode()


def test_whoever_may_not_read_it_is_not_told_that_it_is_current(script: APIClient, person: User) -> None:
    etag = ask(script)["ETag"]
    User.objects.filter(pk=person.pk).update(is_active=False)
    assert ask(script, etag).status_code == 401


def test_what_failed_and_what_is_a_stream_has_no_tag(script: APIClient) -> None:
    assert "ETag" not in ask(script, path=f"{DEVICES}/nowhere")
    export = ask(script, path="/api/v1/record/export")
    assert export.status_code == 200 and "ETag" not in export


def test_what_changes_something_is_carried_out_whatever_the_script_has(script: APIClient, person: User) -> None:
    User.objects.filter(pk=person.pk).update(role="operator")
    for name in ("A", "B"):
        body = {"name": name, "rule": "tag = x"}
        assert script.post("/api/v1/groups", body, format="json", HTTP_IF_NONE_MATCH="*").status_code == 201


def test_a_browser_is_given_nothing_to_keep(person: User) -> None:
    client = APIClient()
    client.force_login(person)
    assert "ETag" not in ask(client) and ask(client, "*").status_code == 200
