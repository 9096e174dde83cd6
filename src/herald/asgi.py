"""The web server's entrance: events are lean async, all else is Django's synchronous stack in one
hop to a long-lived thread (the stock ASGI handler hops twice for each middleware)."""

import asyncio
import json
import os
from collections.abc import MutableMapping
from concurrent.futures import ThreadPoolExecutor
from http.cookies import SimpleCookie
from typing import Any

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "herald.settings")
django.setup()

from django.conf import settings  # noqa: E402  Django must be set up first
from django.contrib.auth import get_user  # noqa: E402
from django.contrib.sessions.backends.db import SessionStore  # noqa: E402
from django.core import signals  # noqa: E402
from django.core.handlers.asgi import ASGIHandler, get_script_prefix  # noqa: E402
from django.db import close_old_connections  # noqa: E402
from django.http import HttpRequest, HttpResponse  # noqa: E402
from django.urls import set_script_prefix  # noqa: E402

from herald.live.events import Receive, Send, hub, serve_events  # noqa: E402

THREADS = 4
EVENTS_PATH = "/api/v1/events"


class OneHopHandler(ASGIHandler):
    """Runs synchronous middleware and view together in a thread that keeps its database connection."""

    def __init__(self) -> None:
        self.load_middleware(is_async=False)
        self.pool = ThreadPoolExecutor(THREADS, thread_name_prefix="web")

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        body = await self.read_body(receive)
        response = await asyncio.get_running_loop().run_in_executor(self.pool, self._work, scope, body)
        await self.send_response(response, send)

    def _work(self, scope: Any, body: Any) -> Any:
        set_script_prefix(get_script_prefix(scope))
        signals.request_started.send(sender=self.__class__, scope=scope)
        request, refusal = self.create_request(scope, body)
        response = refusal or self.get_response(request)
        response._handler_class = self.__class__
        if response.streaming:  # files: small, and read here rather than on the event loop
            whole = HttpResponse(b"".join(response.streaming_content), status=response.status_code)
            whole.headers, whole.cookies = response.headers, response.cookies
            response.close()
            response = whole
        response.close()  # ends the request in this thread, where its connection is
        return response


handler = OneHopHandler()


async def app(scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
    """Answer one request of a browser or a script."""
    if scope["type"] == "lifespan":
        await _lifespan(receive, send)
    elif scope["type"] == "http" and scope["path"] == EVENTS_PATH:
        hub.start()
        loop = asyncio.get_running_loop()
        if await loop.run_in_executor(handler.pool, _is_signed_in, scope):
            await serve_events(receive, send)
        else:
            await _refuse(send)
    elif scope["type"] == "http":
        await handler(scope, receive, send)


def _is_signed_in(scope: MutableMapping[str, Any]) -> bool:
    close_old_connections()
    cookies: SimpleCookie = SimpleCookie()
    for name, value in scope["headers"]:
        if name == b"cookie":
            cookies.load(value.decode("latin-1"))
    morsel = cookies.get(settings.SESSION_COOKIE_NAME)
    request = HttpRequest()
    request.session = SessionStore(morsel.value if morsel else None)
    return bool(get_user(request).is_authenticated)


async def _refuse(send: Send) -> None:
    problem = {"type": "urn:brisk-herald:problem:not-authenticated", "title": "Sign in first", "status": 401}
    body = json.dumps(problem).encode()
    headers = [(b"content-type", b"application/problem+json"), (b"content-length", str(len(body)).encode())]
    await send({"type": "http.response.start", "status": 401, "headers": headers})
    await send({"type": "http.response.body", "body": body})


async def _lifespan(receive: Receive, send: Send) -> None:
    while True:
        message = await receive()
        await send({"type": message["type"] + ".complete"})
        if message["type"] == "lifespan.shutdown":
            return
