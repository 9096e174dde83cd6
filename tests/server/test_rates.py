"""A token calls so often in a minute, is told what is left, and then has to wait; nobody else does."""

import pytest
from django.core.cache import cache
from pytest_django import Settings
from rest_framework.test import APIClient

from herald.groups.models import Group
from herald.people.models import User
from herald.people.rates import TokenThrottle
from herald.people.tokens import make_token
from tests.factories import NOW, make_user
from tests.server.test_tokens import script

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time", "three_a_minute")]
V1 = "/api/v1"


class Seconds:
    """A clock that goes by hand."""

    def __init__(self) -> None:
        self.now = 1000.0

    def __call__(self) -> float:
        return self.now


@pytest.fixture
def seconds(monkeypatch: pytest.MonkeyPatch) -> Seconds:
    made = Seconds()
    monkeypatch.setattr(TokenThrottle, "timer", staticmethod(made))
    return made


@pytest.fixture
def three_a_minute(settings: Settings) -> None:
    settings.TOKEN_CALLS = 3
    cache.clear()


@pytest.fixture
def person() -> User:
    return make_user()


@pytest.fixture
def client(person: User) -> APIClient:
    return script(make_token(person, name="all", days=None, now=NOW)[0])


def test_each_answer_says_what_is_left(client: APIClient, seconds: Seconds) -> None:
    said = []
    for _ in range(3):
        answer = client.get(f"{V1}/folders")
        said.append(answer["RateLimit"])
        assert answer.status_code == 200 and answer["RateLimit-Policy"] == '"token";q=3;w=60'
        seconds.now += 10
    assert said == ['"token";r=2;t=60', '"token";r=1;t=50', '"token";r=0;t=40']


def test_one_call_too_many_is_refused_until_there_is_room_again(client: APIClient, seconds: Seconds) -> None:
    for _ in range(3):
        client.get(f"{V1}/folders")
        seconds.now += 10
    refused = client.post(f"{V1}/groups", {"name": "G", "rule": "tag = x"}, format="json")
    assert refused.status_code == 429 and refused["Content-Type"] == "application/problem+json"
    assert 30 <= int(refused["Retry-After"]) <= 31 and refused["RateLimit"] == '"token";r=0;t=30'
    assert not Group.objects.exists()
    seconds.now += 30
    assert client.get(f"{V1}/folders").status_code == 200


def test_a_refused_call_leaves_its_key_free(client: APIClient, seconds: Seconds) -> None:
    for _ in range(3):
        client.get(f"{V1}/folders")
    asked = {"HTTP_IDEMPOTENCY_KEY": "an-act-of-a-script-1"}
    body = {"name": "G", "rule": "tag = x"}
    assert client.post(f"{V1}/groups", body, format="json", **asked).status_code == 429
    seconds.now += 61
    made = client.post(f"{V1}/groups", body, format="json", **asked)
    assert made.status_code == 201 and "Herald-Replayed" not in made


def test_nobody_else_has_to_wait(client: APIClient, person: User, seconds: Seconds) -> None:
    """Not another token of the same person, and nobody in a browser."""
    for _ in range(4):
        last = client.get(f"{V1}/folders")
    assert last.status_code == 429
    assert script(make_token(person, name="b", days=None, now=NOW)[0]).get(f"{V1}/folders").status_code == 200
    browser = APIClient()
    browser.force_login(person)
    for _ in range(5):
        answer = browser.get(f"{V1}/folders")
        assert answer.status_code == 200 and "RateLimit" not in answer


def test_an_installation_may_count_nothing(client: APIClient, settings: Settings, seconds: Seconds) -> None:
    settings.TOKEN_CALLS = 0
    for _ in range(5):
        answer = client.get(f"{V1}/folders")
        assert answer.status_code == 200 and "RateLimit" not in answer
