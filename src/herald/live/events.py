"""Events to browsers: one listener a process, one bounded queue a browser (Server-Sent Events)."""

import asyncio
import json
from collections.abc import AsyncIterator, Awaitable, Callable, MutableMapping
from typing import Any

import psycopg
import structlog
from django.db import connections

from herald.live.notify import CHANNEL

QUEUE_LENGTH = 200
PING_SECONDS = 15.0
RECONNECT_SECONDS = 0.5
#: how often it is asked whether somebody may still listen
ASK_AGAIN_SECONDS = 20.0
_PARAMETERS = ("host", "port", "dbname", "user", "password")
log = structlog.get_logger()


class Hub:
    """Hands every notification of the database to every browser that listens."""

    def __init__(self) -> None:
        self._clients: set[asyncio.Queue[str | None]] = set()
        self._task: asyncio.Task[None] | None = None

    def start(self) -> None:
        """Begin to listen; does nothing the second time."""
        if self._task is None:
            self._task = asyncio.create_task(self._listen())

    async def _listen(self) -> None:
        while True:
            given = connections["default"].get_connection_params()
            parameters = {k: given[k] for k in _PARAMETERS if k in given}
            try:
                async with await psycopg.AsyncConnection.connect(**parameters, autocommit=True) as connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    self._send('{"topic": "everything", "id": null}')  # what was missed is asked for again
                    async for notification in connection.notifies():
                        self._send(notification.payload)
            except psycopg.OperationalError as error:
                log.warning("listener_lost", error=str(error).strip())
                await asyncio.sleep(RECONNECT_SECONDS)

    def _send(self, payload: str) -> None:
        for queue in list(self._clients):
            if queue.full():  # too slow: it is let go, and asks for everything when it comes back
                self._clients.discard(queue)
                queue.get_nowait()
                queue.put_nowait(None)
            else:
                queue.put_nowait(payload)

    async def stream(self, *, names_objects: bool = True) -> AsyncIterator[bytes]:
        """The events for one browser, until it leaves. Without `names_objects` they say only what kind of thing
        changed, and not which: whoever is limited to some devices hears nothing of others."""
        queue: asyncio.Queue[str | None] = asyncio.Queue(QUEUE_LENGTH)
        self._clients.add(queue)
        try:
            yield b"retry: 1000\n\n"
            while True:
                try:
                    async with asyncio.timeout(PING_SECONDS):
                        payload = await queue.get()
                except TimeoutError:
                    yield b": ping\n\n"
                    continue
                if payload is None:
                    return
                if not names_objects:
                    payload = json.dumps({**json.loads(payload), "id": None})
                yield f"data: {payload}\n\n".encode()
        finally:
            self._clients.discard(queue)


hub = Hub()
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]


async def serve_events(
    receive: Receive, send: Send, may_listen: Callable[[], Awaitable[bool]], *, names_objects: bool = True
) -> None:
    """Answer a browser's request for events, until it leaves or may listen no longer: a session can end meanwhile."""
    headers = [(b"content-type", b"text/event-stream"), (b"cache-control", b"no-cache"), (b"x-accel-buffering", b"no")]
    await send({"type": "http.response.start", "status": 200, "headers": headers})
    gone = asyncio.create_task(_until_over(receive, may_listen))
    stream = hub.stream(names_objects=names_objects)
    following: asyncio.Future[bytes | None] | None = None
    try:
        while not gone.done():
            following = asyncio.ensure_future(anext(stream, None))
            await asyncio.wait({following, gone}, return_when=asyncio.FIRST_COMPLETED)
            if not following.done():
                break
            chunk = following.result()
            if chunk is None:
                break
            await send({"type": "http.response.body", "body": chunk, "more_body": True})
        await send({"type": "http.response.body", "body": b""})
    finally:
        gone.cancel()
        if following is not None and not following.done():  # also where the server itself ends this
            following.cancel()
            await asyncio.gather(following, return_exceptions=True)
        await stream.aclose()  # type: ignore[attr-defined]  # an async generator


async def _until_over(receive: Receive, may_listen: Callable[[], Awaitable[bool]]) -> None:
    leave = asyncio.create_task(_wait_for_leave(receive))
    try:
        while True:
            await asyncio.wait({leave}, timeout=ASK_AGAIN_SECONDS)
            if leave.done() or not await may_listen():
                return
    finally:
        leave.cancel()


async def _wait_for_leave(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass
