"""What comes in is bounded before it is read, and a question whose asker has gone is given up."""

import asyncio
import threading
from typing import Any

import pytest
from asgiref.sync import async_to_sync
from django.db import connection

from herald import asgi
from herald.serving import raise_descriptors


def scope(path: str = "/api/v1/groups", method: str = "POST", **headers: str) -> dict[str, Any]:
    return {
        "type": "http",
        "method": method,
        "path": path,
        "query_string": b"",
        "headers": [(k.replace("_", "-").encode(), v.encode()) for k, v in headers.items()],
        "root_path": "",
        "scheme": "http",
        "server": ("testserver", 80),
        "client": ("127.0.0.1", 1),
        "http_version": "1.1",
    }


def read(given: dict[str, Any], *pieces: bytes) -> bytes:
    """The body as the server reads it, piece by piece."""

    async def run() -> bytes:
        waiting = [*pieces]

        async def receive() -> dict[str, Any]:
            if not waiting:
                await asyncio.sleep(60)
            piece = waiting.pop(0)
            return {"type": "http.request", "body": piece, "more_body": bool(waiting) or piece == b"more"}

        return (await asgi.read_bounded(given, receive)).read()

    return async_to_sync(run)()


def refusal(given: dict[str, Any], *pieces: bytes) -> tuple[int, str]:
    with pytest.raises(asgi.Refused) as refused:
        read(given, *pieces)
    return refused.value.status, refused.value.code


def test_a_body_that_says_it_is_too_long_is_refused_before_it_comes() -> None:
    assert refusal(scope(cookie="x", content_length=str(5 * 1024 * 1024))) == (413, "too-long")
    assert refusal(scope(content_length="70000")) == (413, "too-long")  # without credentials


def test_one_that_does_not_say_so_is_refused_as_soon_as_it_is() -> None:
    piece = b"x" * 40_000
    assert refusal(scope(), piece, piece, piece) == (413, "too-long")
    assert len(read(scope(cookie="x"), piece, piece, piece)) == 120_000


def test_files_may_be_larger_where_files_are_taken_and_only_with_credentials() -> None:
    piece = b"x" * (5 * 1024 * 1024)
    upload = "/api/v1/uploads/00000000-0000-0000-0000-000000000000"
    assert len(read(scope(upload, "PUT", authorization="Bearer x"), piece)) == len(piece)
    assert refusal(scope(upload, "PUT"), piece) == (413, "too-long")
    assert len(read(scope("/api/v1/imports", cookie="x"), piece)) == len(piece)


def test_a_body_that_comes_too_slowly_is_given_up(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(asgi, "BODY_SECONDS", 0.05)
    assert refusal(scope(cookie="x"), b"more") == (408, "too-slow")


def answer(given: dict[str, Any], receive: Any) -> tuple[int, bytes]:
    """What the application answers."""
    sent: list[dict[str, Any]] = []

    async def run() -> None:
        async def send(message: Any) -> None:
            sent.append(message)

        await asgi.app(given, receive, send)

    async_to_sync(run)()
    return sent[0]["status"], b"".join(m.get("body", b"") for m in sent)


async def nothing_more() -> dict[str, Any]:
    return {"type": "http.request", "body": b"", "more_body": False}


@pytest.mark.django_db(transaction=True)
def test_events_take_tokens_and_refuse_others() -> None:
    from herald.people.tokens import make_token
    from tests.factories import NOW, make_user

    user = make_user()
    letters, _ = make_token(user, name="events", days=None, now=NOW)
    assert asgi._signed_in(scope("/api/v1/events", "GET", authorization=f"Bearer {letters}"))
    assert not asgi._signed_in(scope("/api/v1/events", "GET", authorization="Bearer forged"))
    assert not asgi._signed_in(scope("/api/v1/events", "GET"))
    status, body = answer(scope("/api/v1/events", "GET"), nothing_more)
    assert status == 401 and b"not-authenticated" in body
    _forget_threads()


@pytest.mark.django_db(transaction=True)
def test_a_question_whose_asker_has_gone_is_given_up(monkeypatch: pytest.MonkeyPatch) -> None:
    began = threading.Event()

    def slow(self: Any, request: Any) -> Any:
        from django.http import HttpResponse

        with connection.cursor() as cursor:
            began.set()
            cursor.execute("SELECT pg_sleep(120)")
        return HttpResponse("never")

    monkeypatch.setattr(asgi.OneHopHandler, "get_response", slow)
    asked = False

    async def receive() -> dict[str, Any]:
        nonlocal asked
        if not asked:
            asked = True
            return {"type": "http.request", "body": b"", "more_body": False}
        while not began.is_set():
            await asyncio.sleep(0.01)
        await asyncio.sleep(0.2)
        return {"type": "http.disconnect"}

    with pytest.raises(Exception, match="due to user request"):  # and not as its time was over
        answer(scope("/api/v1/devices", "GET", cookie="x"), receive)
    _forget_threads()


def test_a_process_may_have_many_connections() -> None:
    assert raise_descriptors() >= 100


def _forget_threads() -> None:
    """The handler's threads keep their connections, which would hold the test database."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
            "WHERE datname = current_database() AND pid <> pg_backend_pid()"
        )
