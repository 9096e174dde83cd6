"""Whoever sits at somebody's open session cannot guess at the password, the codes or the passkeys of that person."""

from datetime import timedelta
from typing import Any

import pytest
from django.test import Client

from herald.limits.services import limit_person, read_limits
from herald.people.models import FailedSignIn, User
from herald.people.throttling import FREE_OF_ACCOUNT
from tests.factories import NOW, make_site, make_user
from tests.server.test_hostile import fields_of, operations

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time", "long_waits")]

PASSWORD = "a-long-password"
#: every call about one's own account that wants it proved who one is, with a wrong proof
DOORS: dict[str, dict[str, Any]] = {
    "own/password": {"current": "wrong", "new": "another-long-password-7"},
    "own/second-factor": {"password": "wrong"},
    "own/second-factor/recovery-codes": {"password": "wrong"},
    "own/second-factor/take-off": {"password": "wrong", "code": "123456"},
    "own/passkeys/options": {"password": "wrong"},
    "own/passkeys/987654/remove": {"password": "wrong"},
}


@pytest.fixture
def owner() -> User:
    return make_user()


@pytest.fixture
def session(owner: User) -> Client:
    client = Client(SERVER_NAME="localhost")
    client.force_login(owner)
    return client


def send(session: Client, door: str, body: Any) -> Any:
    return session.post(f"/api/v1/{door}", body, content_type="application/json")


@pytest.mark.parametrize("door", DOORS)
def test_a_few_wrong_tries_make_every_door_wait(session: Client, owner: User, door: str) -> None:
    for _ in range(FREE_OF_ACCOUNT):
        answer = send(session, door, DOORS[door])
        assert answer.status_code == 422, answer.content
    for other, body in DOORS.items():
        answer = send(session, other, body)
        assert answer.status_code == 429 and int(answer["Retry-After"]) >= 0, other
        assert "wait a moment" in answer.json()["detail"]
    right = send(session, "own/second-factor", {"password": PASSWORD})
    assert right.status_code == 429, "nor does a right one open while it has to wait"
    FailedSignIn.objects.update(last_at=FailedSignIn.objects.earliest("last_at").last_at - timedelta(minutes=21))
    assert send(session, "own/second-factor", {"password": PASSWORD}).status_code == 200
    assert not FailedSignIn.objects.filter(key__contains=f"own {owner.pk}").exists(), "whoever is there is forgiven"


def test_these_are_all_the_doors() -> None:
    """Whatever takes a password or shows a passkey is one; a code alone begins what its own session has made."""
    proofs = {"password", "current", "assertion"}
    own = [(path, method) for _, method, path in operations() if "/own/" in path]
    wanting = {path for path, method in own if proofs & {*fields_of(path, method)}}
    assert {p.removeprefix("/api/v1/").replace("{passkey_id}", "987654") for p in wanting} == set(DOORS)


def test_somebody_who_is_limited_is_told_and_slowed_alike(owner: User, session: Client) -> None:
    site = make_site("Here")
    limit_person(owner.pk, read_limits([], [site.pk]), actor=None, now=NOW)
    assert send(session, "own/second-factor", {"password": PASSWORD}).status_code == 200
    for _ in range(FREE_OF_ACCOUNT):
        answer = send(session, "own/second-factor", {"password": "wrong"})
        assert answer.status_code == 422 and answer.json()["errors"][0]["pointer"] == "/password"
    assert send(session, "own/second-factor", {"password": "wrong"}).status_code == 429


def test_one_who_guesses_keeps_nobody_else_from_proving_who_they_are(session: Client) -> None:
    for _ in range(FREE_OF_ACCOUNT + 1):
        send(session, "own/second-factor", {"password": "wrong"})
    other = Client(SERVER_NAME="localhost", REMOTE_ADDR="192.0.2.7")
    other.force_login(make_user())
    assert send(other, "own/second-factor", {"password": PASSWORD}).status_code == 200


def test_a_new_password_that_will_not_do_is_no_wrong_try(session: Client) -> None:
    for _ in range(FREE_OF_ACCOUNT + 3):
        answer = send(session, "own/password", {"current": PASSWORD, "new": "short"})
        assert answer.status_code == 422 and answer.json()["errors"][0]["pointer"] == "/new"
    assert not FailedSignIn.objects.exists()
