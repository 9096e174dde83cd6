"""Events to browsers: sent on commit, never for what was rolled back, and a slow browser is let go."""

import asyncio
import json
from collections.abc import Iterator
from typing import Any

import pytest
from asgiref.sync import async_to_sync
from django.conf import settings
from django.db import connection, transaction
from django.http import HttpRequest
from rest_framework.test import APIClient

from herald.asgi import EVENTS_PATH, _signed_in, app
from herald.live import events
from herald.live.notify import notify
from herald.people.accounts import disable
from herald.people.models import WantedFactor
from herald.people.set_up_first import mark
from tests.factories import NOW, make_user

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture(autouse=True)
def no_backends_left(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    monkeypatch.setenv("DJANGO_ALLOW_ASYNC_UNSAFE", "1")
    yield
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
            "WHERE datname = current_database() AND pid <> pg_backend_pid()"
        )


def told(act: Any, *, count: int, **asked: bool) -> list[dict[str, Any]]:
    """What a browser that listens is told while `act` runs in another thread."""

    async def run() -> list[dict[str, Any]]:
        hub = events.Hub()
        stream = hub.stream(**asked)
        first = await anext(stream)
        assert first.startswith(b"retry")
        hub.start()
        found = [json.loads((await asyncio.wait_for(anext(stream), 5))[6:])]
        await asyncio.to_thread(act)
        while len(found) < count + 1:
            found.append(json.loads((await asyncio.wait_for(anext(stream), 5))[6:]))
        assert hub._task is not None
        hub._task.cancel()
        await stream.aclose()
        assert not hub._clients
        return found

    return list(async_to_sync(run)())


def test_a_browser_is_told_on_commit_and_each_thing_once() -> None:
    def act() -> None:
        with transaction.atomic():
            notify("rollout", 4)
            notify("rollout", 4)
            notify("group", 7)

    assert told(act, count=2)[1:] == [{"topic": "rollout", "id": 4}, {"topic": "group", "id": 7}]


def test_whoever_is_limited_is_not_told_which_thing_changed() -> None:
    assert told(lambda: notify("rollout", 4), count=1, names_objects=False)[1:] == [{"topic": "rollout", "id": None}]


def test_what_is_rolled_back_is_not_told() -> None:
    def act() -> None:
        with transaction.atomic():
            notify("rollout", 1)
            transaction.set_rollback(True)
        notify("group", 2)

    assert told(act, count=1)[1:] == [{"topic": "group", "id": 2}]


def test_everything_is_to_be_asked_again_after_the_listener_came_back() -> None:
    assert told(lambda: None, count=0) == [{"topic": "everything", "id": None}]


def test_a_slow_browser_is_let_go() -> None:
    async def run() -> None:
        hub = events.Hub()
        stream = hub.stream()
        await anext(stream)
        for number in range(events.QUEUE_LENGTH + 5):
            hub._send(str(number))
        assert not hub._clients
        chunks = [chunk async for chunk in stream]
        assert len(chunks) == events.QUEUE_LENGTH - 1

    async_to_sync(run)()


def test_who_is_shut_out_hears_nothing_more(monkeypatch: pytest.MonkeyPatch) -> None:
    """The stream is open; the session ends, by a press elsewhere or an administrator."""
    monkeypatch.setattr(events, "ASK_AGAIN_SECONDS", 0.05)
    user = make_user("viewer")
    browser = APIClient()
    browser.post("/api/v1/session", {"email": user.email, "password": "a-long-password"}, format="json")
    cookie = f"sessionid={browser.cookies['sessionid'].value}".encode()
    admin = make_user("administrator")

    async def run() -> list[dict[str, Any]]:
        sent: list[dict[str, Any]] = []
        opened = asyncio.Event()

        async def send(message: Any) -> None:
            sent.append(dict(message))
            if message.get("body"):
                opened.set()

        async def receive() -> dict[str, Any]:
            await asyncio.sleep(60)
            return {"type": "http.disconnect"}

        scope = {"type": "http", "path": EVENTS_PATH, "method": "GET", "headers": [(b"cookie", cookie)]}
        stream = asyncio.create_task(app(scope, receive, send))
        await asyncio.wait_for(opened.wait(), 30)
        await asyncio.sleep(0.3)
        assert not stream.done(), "who may listen goes on"
        await asyncio.to_thread(lambda: disable([user.pk], actor=admin, now=NOW))
        await asyncio.wait_for(stream, 30)
        assert events.hub._task is not None
        events.hub._task.cancel()
        events.hub._task = None
        return sent

    sent = async_to_sync(run)()
    assert sent[0]["status"] == 200 and not sent[-1].get("more_body")


def test_events_need_a_sign_in() -> None:
    async def run() -> list[dict[str, Any]]:
        sent: list[dict[str, Any]] = []

        async def send(message: Any) -> None:
            sent.append(dict(message))

        async def receive() -> dict[str, Any]:
            return {"type": "http.disconnect"}

        await app({"type": "http", "path": EVENTS_PATH, "method": "GET", "headers": []}, receive, send)
        assert events.hub._task is not None
        events.hub._task.cancel()
        events.hub._task = None
        return sent

    sent = async_to_sync(run)()
    assert sent[0]["status"] == 401
    assert (b"content-type", b"application/problem+json") in sent[0]["headers"]


def test_where_a_second_factor_is_set_up_first_nothing_is_heard() -> None:
    user, client = make_user(), APIClient()
    WantedFactor.objects.create(role=user.role)
    client.force_login(user)
    session = client.session
    cookie = f"{settings.SESSION_COOKIE_NAME}={session.session_key}".encode()
    scope = {"type": "http", "path": EVENTS_PATH, "method": "GET", "headers": [(b"cookie", cookie)]}
    assert _signed_in(scope) == user
    request = HttpRequest()
    request.session = session
    mark(request, user, is_strong=False)
    session.save()
    assert _signed_in(scope) is None
