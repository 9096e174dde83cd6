"""Passkeys: added, used to sign in and to show who one is, removed; and whatever does not fit is refused."""

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.people import second_factor
from herald.people.models import Invitation, OpenSession, Passkey, SecondFactor, User
from herald.people.passkeys import ANSWERED_WITHIN, MOST_PASSKEYS
from herald.people.throttling import FREE_OF_ADDRESS
from herald.record.models import RecordEntry
from tests.authenticator import PRESENT, Authenticator, encoded
from tests.factories import NOW, client_as, make_user

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
V1 = "/api/v1"
PASSWORD = "a-long-password"
HOST = "localhost"


class RealTime:
    """Real time, which the test carries on."""

    def __init__(self) -> None:
        self.at = datetime(2026, 11, 30, 1, 0, tzinfo=UTC)


@pytest.fixture(autouse=True)
def real(monkeypatch: pytest.MonkeyPatch) -> RealTime:
    time = RealTime()

    def passes() -> datetime:
        time.at += timedelta(milliseconds=5)  # as it does between two requests
        return time.at

    monkeypatch.setattr(second_factor, "real_time", passes)
    return time


def browser() -> APIClient:
    return APIClient(SERVER_NAME=HOST)


def signed_in(user: User) -> APIClient:
    client = browser()
    answer = post(client, "session", email=user.email, password=PASSWORD)
    assert answer.status_code == 200, answer.content
    return client


def post(client: APIClient, path: str, **body: Any) -> Any:
    return client.post(f"{V1}/{path}", body, format="json")


def add(client: APIClient, device: Authenticator, name: str = "Laptop") -> Any:
    options = post(client, "own/passkeys/options", password=PASSWORD).json()["options"]
    return post(client, "own/passkeys", name=name, credential=device.make(options))


def asked(client: APIClient) -> Any:
    return post(client, "session/passkey/options").json()["options"]


def enter(device: Authenticator) -> Any:
    client = browser()
    return post(client, "session/passkey", assertion=device.sign(asked(client)))


def who(client: APIClient) -> str | None:
    user = client.get(f"{V1}/session").json()["user"]
    return user and user["email"]


def test_a_passkey_signs_in_alone_and_is_on_record() -> None:
    user, device = make_user(), Authenticator()
    answer = add(signed_in(user), device)
    assert answer.status_code == 201, answer.content
    assert [p["name"] for p in answer.json()["passkeys"]] == ["Laptop"] and answer.json()["has_password"]

    client = browser()
    assert post(client, "session/passkey", assertion=device.sign(asked(client))).json()["user"]["email"] == user.email
    assert who(client) == user.email
    passkey = Passkey.objects.get()
    assert passkey.used_at == NOW and passkey.uses == 1
    told = [e.sentence for e in RecordEntry.objects.filter(kind="user", object_id=user.pk).order_by("id")]
    assert told[-2:] == ["Added the passkey “Laptop”", "Signed in with a passkey from 127.0.0.1"]
    assert OpenSession.objects.filter(user=user).count() == 2


def test_it_is_both_factors_so_no_code_is_asked_for() -> None:
    user, device = make_user(), Authenticator()
    add(signed_in(user), device)
    SecondFactor.objects.create(person=user, secret="x", confirmed_at=NOW)
    assert post(browser(), "session", email=user.email, password=PASSWORD).status_code == 401
    assert enter(device).status_code == 200


def test_whoever_finds_an_open_session_adds_and_removes_none() -> None:
    user, device = make_user(), Authenticator()
    client = signed_in(user)
    add(client, device)
    refused = post(client, "own/passkeys/options", password="another")
    assert refused.status_code == 422 and refused.json()["errors"][0]["pointer"] == "/password"
    passkey = Passkey.objects.get()
    # with a password, a passkey shows nothing: it may lie where the session is open
    assertion = device.sign(asked(client))
    assert post(client, f"own/passkeys/{passkey.pk}/remove", assertion=assertion).status_code == 422
    assert post(client, f"own/passkeys/{passkey.pk}/remove", password=PASSWORD).json()["passkeys"] == []
    assert enter(device).status_code == 401


def test_each_has_its_name_once_and_there_may_be_so_many() -> None:
    client = signed_in(make_user())
    add(client, Authenticator())
    assert add(client, Authenticator(), " Laptop ").json()["errors"][0]["pointer"] == "/name"
    assert add(client, Authenticator(), "  ").status_code == 422
    assert add(client, Authenticator(), "Phone").status_code == 201
    laptop, phone = Passkey.objects.order_by("id")
    assert laptop.handle == phone.handle, "a browser knows a person by one handle"
    Passkey.objects.bulk_create(
        Passkey(person=laptop.person, name=f"Key {n}", credential=f"c{n}", handle=laptop.handle, added_at=NOW)
        for n in range(MOST_PASSKEYS - 2)
    )
    options = post(client, "own/passkeys/options", password=PASSWORD)
    assert options.status_code == 409 and str(MOST_PASSKEYS) in options.json()["detail"]


def test_a_browser_is_told_which_it_holds_already() -> None:
    client, device = signed_in(make_user()), Authenticator()
    add(client, device)
    options = post(client, "own/passkeys/options", password=PASSWORD).json()["options"]
    assert [c["id"] for c in options["excludeCredentials"]] == [encoded(device.credential)]
    again = post(client, "own/passkeys", name="Again", credential=device.make(options))
    assert again.status_code == 422 and "already" in again.json()["errors"][0]["message"]


def test_an_answer_opens_once() -> None:
    device, client = Authenticator(), browser()
    add(signed_in(make_user()), device)
    device.uses = 0
    first = device.sign(asked(client))
    assert post(client, "session/passkey", assertion=first).status_code == 200
    assert post(browser(), "session/passkey", assertion=first).status_code == 401


def test_an_older_challenge_is_not_answered_after_a_newer_one() -> None:
    device, client = Authenticator(), browser()
    add(signed_in(make_user()), device)
    older, newer = asked(client), asked(client)
    assert post(client, "session/passkey", assertion=device.sign(newer)).status_code == 200
    assert post(browser(), "session/passkey", assertion=device.sign(older)).status_code == 401


def too_late(device: Authenticator, real: RealTime, client: APIClient) -> Any:
    options = asked(client)
    real.at += ANSWERED_WITHIN
    return device.sign(options)


def from_another_page(device: Authenticator, real: RealTime, client: APIClient) -> Any:
    device.origin = "https://brisk-herald.example"
    return device.sign(asked(client))


def over_http(device: Authenticator, real: RealTime, client: APIClient) -> Any:
    device.origin = "http://testserver"
    return device.sign({**asked(client), "rpId": "testserver"})


def for_another_name(device: Authenticator, real: RealTime, client: APIClient) -> Any:
    return device.sign({**asked(client), "rpId": "example.org"})


def without_looking_at_who_holds_it(device: Authenticator, real: RealTime, client: APIClient) -> Any:
    device.flags = PRESENT
    return device.sign(asked(client))


def with_another_key(device: Authenticator, real: RealTime, client: APIClient) -> Any:
    other = Authenticator()
    other.credential = device.credential
    return other.sign(asked(client))


def with_its_own_challenge(device: Authenticator, real: RealTime, client: APIClient) -> Any:
    return device.sign({**asked(client), "challenge": encoded(b"made up")})


def with_the_challenge_of_a_new_one(device: Authenticator, real: RealTime, client: APIClient) -> Any:
    own = signed_in(User.objects.get())
    options = post(own, "own/passkeys/options", password=PASSWORD).json()["options"]
    return device.sign({**asked(client), "challenge": options["challenge"]})


def copied(device: Authenticator, real: RealTime, client: APIClient) -> Any:
    assert enter(device).status_code == 200
    device.uses = 0  # the copy has counted fewer uses
    return device.sign(asked(client))


WRONG: list[Callable[[Authenticator, RealTime, APIClient], Any]] = [
    too_late, from_another_page, over_http, for_another_name, without_looking_at_who_holds_it, with_another_key,
    with_its_own_challenge, with_the_challenge_of_a_new_one, copied,
]  # fmt: skip


@pytest.mark.parametrize("answer", WRONG, ids=lambda f: f.__name__)
def test_what_does_not_fit_opens_nothing(answer: Any, real: RealTime) -> None:
    device, client = Authenticator(), browser()
    add(signed_in(make_user()), device)
    refused = post(client, "session/passkey", assertion=answer(device, real, client))
    assert refused.status_code == 401 and refused.json()["detail"] == "No account here opens by this passkey."
    assert who(client) is None


@pytest.mark.parametrize(
    "assertion",
    [{}, {"id": None}, {"id": "x", "response": 3}, {"id": "x", "response": {"clientDataJSON": "e30"}}, {"id": "\x00"}],
    ids=str,
)
def test_nonsense_is_refused_in_words(assertion: Any) -> None:
    add(signed_in(make_user()), Authenticator())
    Passkey.objects.update(credential="x")
    assert post(browser(), "session/passkey", assertion=assertion).status_code in (401, 422)


def test_whoever_is_disabled_or_removed_does_not_enter() -> None:
    user, device = make_user(), Authenticator()
    add(signed_in(user), device)
    admin = client_as("administrator")
    post(admin, "people/disable", people=[user.pk])
    assert enter(device).status_code == 401
    post(admin, "people/enable", people=[user.pk])
    assert enter(device).status_code == 200
    post(admin, "people/remove", people=[user.pk])
    assert not Passkey.objects.exists() and enter(device).status_code == 401


@pytest.mark.usefixtures("long_waits")
def test_whoever_guesses_has_to_wait() -> None:
    device = Authenticator()
    for _ in range(FREE_OF_ADDRESS):
        enter(device)
    slowed = enter(device)
    assert slowed.status_code == 429 and int(slowed["Retry-After"]) >= 1


def test_by_a_number_there_are_none() -> None:
    client = APIClient(SERVER_NAME="127.0.0.1")
    refused = post(client, "session/passkey/options")
    assert refused.status_code == 409 and "by its host name" in refused.json()["detail"]


def invited() -> str:
    made = post(client_as("administrator"), "people/invitations", emails=["ada@example.org"], role="operator")
    path: str = made.json()[0]["path"]
    return path.removeprefix("/")


def accept(path: str, device: Authenticator, **change: Any) -> tuple[APIClient, Any]:
    client = browser()
    options = post(client, f"{path}/passkey-options").json()["options"]
    body = {"name": "Ada Lind", "time_zone": "Europe/Lisbon", "passkey": device.make(options), **change}
    return client, post(client, path, **body)


def test_an_invitation_is_accepted_with_a_passkey_and_no_password() -> None:
    device = Authenticator()
    client, answer = accept(invited(), device)
    assert answer.status_code == 201, answer.content
    ada = User.objects.get(email="ada@example.org")
    assert not ada.has_usable_password() and who(client) == ada.email
    assert enter(device).status_code == 200
    own = client.get(f"{V1}/own/passkeys").json()
    assert not own["has_password"]

    # without a password, a passkey shows who one is; the only one is not removed
    remove = f"own/passkeys/{own['passkeys'][0]['id']}/remove"
    assert post(client, remove).json()["errors"][0]["pointer"] == "/assertion"
    stuck = post(client, remove, assertion=device.sign(asked(client)))
    assert stuck.status_code == 409 and "only passkey" in stuck.json()["detail"]
    assert post(client, "own/password", new="seven-quiet-lamps").status_code == 422
    done = post(client, "own/password", new="seven-quiet-lamps", assertion=device.sign(asked(client)))
    assert done.status_code == 200, done.content
    assert post(client, remove, password="seven-quiet-lamps").json()["passkeys"] == []


def test_another_persons_passkey_does_not_show_who_one_is() -> None:
    device, other = Authenticator(), Authenticator()
    client, _ = accept(invited(), device)
    add(signed_in(make_user()), other)
    refused = post(client, "own/passkeys/options", assertion=other.sign(asked(client)))
    assert refused.status_code == 422
    assert post(client, "own/passkeys/options", assertion=device.sign(asked(client))).status_code == 200


def test_a_passkey_made_for_somebody_else_is_not_taken() -> None:
    path, device = invited(), Authenticator()
    own = post(signed_in(make_user()), "own/passkeys/options", password=PASSWORD).json()["options"]
    refused = post(browser(), path, name="Ada", time_zone="UTC", passkey=device.make(own))
    assert refused.status_code == 422 and Invitation.objects.exists()
    assert not User.objects.filter(email="ada@example.org").exists()


def test_a_link_that_opens_nothing_tells_nothing() -> None:
    assert post(browser(), "welcome/made-up/passkey-options").status_code == 404


def test_whoever_has_lost_all_opens_their_account_anew() -> None:
    user, lost, device = make_user(), Authenticator(), Authenticator()
    client, admin = signed_in(user), client_as("administrator")
    add(client, lost)
    SecondFactor.objects.create(person=user, secret="x", confirmed_at=NOW)
    made = post(admin, f"people/{user.pk}/new-link")
    assert made.status_code == 201 and made.json()["person"] == user.pk
    assert who(client) == user.email, "until the link is used, all goes on"
    path = made.json()["path"].removeprefix("/")
    assert browser().get(f"{V1}/{path}").json()["name"] == user.name

    anew, answer = accept(path, device, name="", time_zone="")
    assert answer.status_code == 201, answer.content
    after = User.objects.get(pk=user.pk)
    assert (after.name, after.time_zone, after.role) == (user.name, user.time_zone, user.role)
    assert who(client) is None and who(anew) == user.email
    assert enter(lost).status_code == 401 and enter(device).status_code == 200
    assert post(browser(), "session", email=user.email, password=PASSWORD).status_code == 401
    assert browser().get(f"{V1}/{path}").status_code == 404
    told = RecordEntry.objects.filter(kind="user", object_id=user.pk).values_list("sentence", flat=True)
    assert {f"Made a link by which {user} opens their account anew", "Opened their account anew by a link"} <= set(told)


def test_an_account_is_opened_anew_with_a_password_that_will_do() -> None:
    user = make_user()
    path = post(client_as("administrator"), f"people/{user.pk}/new-link").json()["path"].removeprefix("/")
    assert post(browser(), path, password="short").json()["errors"][0]["pointer"] == "/password"
    assert post(browser(), path).status_code == 422
    assert post(browser(), path, password="seven-quiet-lamps").status_code == 201
    assert User.objects.get(pk=user.pk).check_password("seven-quiet-lamps")


def test_a_new_link_is_for_others_who_may_enter() -> None:
    admin, user = make_user("administrator"), make_user()
    client = browser()
    client.force_authenticate(admin)
    assert post(client, f"people/{admin.pk}/new-link").status_code == 409
    path = post(client, f"people/{user.pk}/new-link").json()["path"].removeprefix("/")
    post(client, "people/disable", people=[user.pk])
    assert post(client, f"people/{user.pk}/new-link").status_code == 409
    assert post(browser(), path, password="seven-quiet-lamps").status_code == 404
    post(client, "people/remove", people=[user.pk])
    assert not Invitation.objects.exists()


def test_the_access_review_says_how_many() -> None:
    user = make_user()
    add(signed_in(user), Authenticator())
    rows = client_as("administrator").get(f"{V1}/people").json()["people"]
    assert {r["email"]: r["passkeys"] for r in rows}[user.email] == 1
