"""More than a password, wanted of roles: who has none sets one up first, and whoever came by less signs in anew."""

from datetime import UTC, datetime, timedelta
from typing import Any

import pyotp
import pytest
from django.db import IntegrityError, transaction
from django.urls import URLPattern, get_resolver
from rest_framework.test import APIClient

from herald.people import second_factor
from herald.people.models import OpenSession, User, WantedFactor
from herald.people.permissions import RolePermission
from herald.record.models import RecordEntry
from tests.authenticator import Authenticator
from tests.factories import client_as, make_user

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
V1 = "/api/v1"
PASSWORD = "a-long-password"
NEW = "seven-quiet-lamps"


@pytest.fixture(autouse=True)
def real(monkeypatch: pytest.MonkeyPatch) -> None:
    at = [datetime(2026, 11, 30, 1, 0, tzinfo=UTC)]

    def passes() -> datetime:
        at[0] += timedelta(milliseconds=5)
        return at[0]

    monkeypatch.setattr(second_factor, "real_time", passes)


def browser() -> APIClient:
    return APIClient(SERVER_NAME="localhost")


def post(client: APIClient, path: str, **body: Any) -> Any:
    return client.post(f"{V1}/{path}", body, format="json")


def signed_in(user: User, password: str = PASSWORD, **code: str) -> APIClient:
    client = browser()
    answer = post(client, "session", email=user.email, password=password, **code)
    assert answer.status_code == 200, answer.content
    return client


def want(*roles: str, by: APIClient | None = None) -> Any:
    return (by or strong(make_user("administrator"))).put(
        f"{V1}/people/second-factor-wanted", {"roles": list(roles)}, format="json"
    )


def strong(user: User) -> APIClient:
    """A browser in which somebody has added a passkey."""
    client = signed_in(user)
    assert add(client, Authenticator()).status_code == 201
    return client


def add(client: APIClient, device: Authenticator, password: str = PASSWORD) -> Any:
    options = post(client, "own/passkeys/options", password=password).json()["options"]
    return post(client, "own/passkeys", name="Laptop", credential=device.make(options))


def state(client: APIClient) -> tuple[bool, bool]:
    """Whether somebody is signed in, and whether they set up a second factor first."""
    told = client.get(f"{V1}/session").json()
    return told["user"] is not None, told["sets_up_first"]


def test_sessions_by_a_password_end_and_those_that_are_more_go_on() -> None:
    weak, more, other = signed_in(make_user()), strong(make_user()), signed_in(make_user("viewer"))
    people = client_as("administrator").get(f"{V1}/people").json()["people"]
    assert sum(p["weak_sessions"] for p in people) == 2
    answer = want("operator")
    assert answer.status_code == 200 and answer.json()["second_factor_wanted"] == ["operator"]
    assert [state(c)[0] for c in (weak, more, other)] == [False, True, True]
    entry = RecordEntry.objects.order_by("-id")[0]
    assert entry.sentence == "Wanted more than a password of every operator"
    assert want("operator").status_code == 200
    assert RecordEntry.objects.filter(sentence__startswith="Wanted").count() == 1, "nothing has changed by it"


def test_who_has_none_sets_one_up_first_and_then_all_opens() -> None:
    user = make_user()
    want("operator")
    client = signed_in(user)
    assert state(client) == (True, True)
    closed = client.get(f"{V1}/groups")
    assert closed.status_code == 403 and "Set up a passkey" in closed.json()["detail"]
    device = Authenticator()
    assert add(client, device).status_code == 201
    assert state(client) == (True, False) and client.get(f"{V1}/groups").status_code == 200
    assert OpenSession.objects.get(user=user).is_strong


def test_an_app_does_as_well() -> None:
    user = make_user()
    want("operator")
    client = signed_in(user)
    secret = post(client, "own/second-factor", password=PASSWORD).json()["secret"]
    code = pyotp.TOTP(secret).at(second_factor.real_time())
    assert post(client, "own/second-factor/confirm", code=code).status_code == 200
    assert state(client) == (True, False) and client.get(f"{V1}/groups").status_code == 200
    again = pyotp.TOTP(secret).at(second_factor.real_time() + timedelta(seconds=30))
    assert state(signed_in(user, code=again)) == (True, False)


def test_every_other_call_is_closed_until_then() -> None:
    """All that the program can be asked stands behind the same door; what stays open is this."""
    open_first = {
        str(pattern.pattern).removeprefix("api/v1/")
        for pattern in get_resolver().url_patterns
        if isinstance(pattern, URLPattern)
        and (view := getattr(pattern.callback, "view_class", None)) is not None
        and RolePermission in getattr(view, "permission_classes", ())
        and getattr(view, "sets_up_second_factor", False)
    }
    assert open_first == {"own/passkeys", "own/passkeys/options", "own/second-factor", "own/second-factor/confirm"}
    want("operator")
    client = signed_in(make_user())
    for path in ("tokens", "own/sessions", "own/messages", "people", "devices", "record", "saved-views"):
        assert client.get(f"{V1}/{path}").status_code == 403, path
    assert post(client, "tokens", name="a way round", days=1).status_code == 403


def test_with_a_passkey_the_password_alone_no_more_signs_in() -> None:
    user, device = make_user(), Authenticator()
    add(signed_in(user), device)
    want("operator")
    refused = post(browser(), "session", email=user.email, password=PASSWORD)
    assert refused.status_code == 401 and "sign in with your passkey" in refused.json()["detail"]
    client = browser()
    options = post(client, "session/passkey/options").json()["options"]
    assert post(client, "session/passkey", assertion=device.sign(options)).status_code == 200
    assert state(client) == (True, False)


def test_the_last_one_is_not_taken_off() -> None:
    user = make_user()
    client = strong(user)
    want("operator")
    passkey = user.passkeys.get()
    stuck = post(client, f"own/passkeys/{passkey.pk}/remove", password=PASSWORD)
    assert stuck.status_code == 409 and "not enough for your role" in stuck.json()["detail"]
    secret = post(client, "own/second-factor", password=PASSWORD).json()["secret"]
    app = pyotp.TOTP(secret)
    post(client, "own/second-factor/confirm", code=app.at(second_factor.real_time()))
    assert post(client, f"own/passkeys/{passkey.pk}/remove", password=PASSWORD).status_code == 200
    code = app.at(second_factor.real_time() + timedelta(seconds=30))
    stuck = post(client, "own/second-factor/take-off", password=PASSWORD, code=code)
    assert stuck.status_code == 409 and second_factor.has_second_factor(user)


def test_whoever_wants_it_of_themselves_has_one() -> None:
    admin = make_user("administrator")
    client = signed_in(admin)
    refused = want("administrator", by=client)
    assert refused.status_code == 409 and "for yourself first" in refused.json()["detail"]
    assert not WantedFactor.objects.exists() and state(client)[0]
    add(client, Authenticator())
    assert want("administrator", "viewer", by=client).json()["second_factor_wanted"] == ["administrator", "viewer"]
    assert state(client) == (True, False)
    assert want(by=client).json()["second_factor_wanted"] == []


def test_another_role_that_wants_more_ends_what_came_by_less() -> None:
    user = make_user("viewer")
    client, admin = signed_in(user), strong(make_user("administrator"))
    want("operator", by=admin)
    assert state(client)[0]
    admin.patch(f"{V1}/people/{user.pk}", {"role": "operator"}, format="json")
    assert not state(client)[0]


def test_invitations_and_new_links_are_no_way_round() -> None:
    want("operator", "viewer")
    admin = client_as("administrator")
    path = post(admin, "people/invitations", emails=["ada@example.org"], role="viewer").json()[0]["path"][1:]
    client = browser()
    assert post(client, path, name="Ada", time_zone="UTC", password=NEW).json()["sets_up_first"]
    assert client.get(f"{V1}/groups").status_code == 403
    ada = User.objects.get(email="ada@example.org")
    path = post(admin, f"people/{ada.pk}/new-link").json()["path"][1:]
    device, client = Authenticator(), browser()
    options = post(client, f"{path}/passkey-options").json()["options"]
    assert not post(client, path, passkey=device.make(options)).json()["sets_up_first"]
    assert client.get(f"{V1}/groups").status_code == 200


def test_a_mark_does_not_outlive_its_person() -> None:
    """The next one to sign in in the same browser is somebody else."""
    want("operator")
    client = signed_in(make_user())
    viewer = make_user("viewer")
    post(client, "session", email=viewer.email, password=PASSWORD)
    assert state(client) == (True, False) and client.get(f"{V1}/groups").status_code == 200


def test_a_mark_goes_when_its_person_signs_in_again_and_nothing_is_wanted_any_more() -> None:
    user, admin = make_user(), strong(make_user("administrator"))
    want("operator", by=admin)
    client = signed_in(user)
    assert state(client) == (True, True)
    assert want(by=admin).status_code == 200
    assert post(client, "session", email=user.email, password=PASSWORD).status_code == 200
    assert state(client) == (True, False) and client.get(f"{V1}/groups").status_code == 200


def test_the_database_knows_the_roles() -> None:
    with pytest.raises(IntegrityError), transaction.atomic():
        WantedFactor.objects.create(role="king")
