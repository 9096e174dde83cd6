"""The web server's entrance: events are lean async, all else is Django's synchronous stack in one
hop to a long-lived thread (the stock ASGI handler hops twice for each middleware).

What comes in is bounded before it is read: how large a body is, and how long it takes to come. What takes long has
threads of its own, and a question whose asker has gone is given up, in the database too.
"""

import asyncio
import json
import os
import tempfile
import threading
from collections.abc import MutableMapping
from concurrent.futures import ThreadPoolExecutor
from http.cookies import SimpleCookie
from typing import IO, Any

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "herald.settings")
django.setup()

from django.conf import settings  # noqa: E402  Django must be set up first
from django.contrib.auth import get_user  # noqa: E402
from django.contrib.sessions.backends.db import SessionStore  # noqa: E402
from django.core import signals  # noqa: E402
from django.core.handlers.asgi import ASGIHandler, get_script_prefix  # noqa: E402
from django.db import close_old_connections, connections  # noqa: E402
from django.db.backends.signals import connection_created  # noqa: E402
from django.db.utils import InterfaceError, OperationalError  # noqa: E402
from django.http import HttpRequest, HttpResponse  # noqa: E402
from django.urls import set_script_prefix  # noqa: E402
from rest_framework.exceptions import AuthenticationFailed  # noqa: E402

from herald.clock.heartbeat import SERVER  # noqa: E402
from herald.http.errors import problem_body  # noqa: E402
from herald.http.problems import RETRY_AFTER_SECONDS  # noqa: E402
from herald.live.events import Receive, Send, hub, serve_events  # noqa: E402
from herald.memory import settle_memory  # noqa: E402
from herald.now.watching import Watcher  # noqa: E402
from herald.people.models import User  # noqa: E402
from herald.people.set_up_first import is_marked  # noqa: E402
from herald.people.tokens import TokenAuthentication, note_use  # noqa: E402

#: most calls are short; those that look at whole fleets must not keep them waiting
THREADS, HEAVY_THREADS = 8, 3
EVENTS_PATH = "/api/v1/events"
#: the ends of addresses whose calls look at whole fleets, or write thousands of rows
_HEAVY = (
    "/preview",
    "/sieve",
    "/export",
    "/grid",
    "/preflight",
    "/preflight/devices",
    "/forecast",
    "/launch",
    "/proposed-rule",
    "/common-causes",
    "/report",
    "/report/table",
    "/reports/firmware",
    "/reports/firmware/table",
    "/values",
    "/accept",
    "/undo",
    "/configuration/compare",
    "/configuration/apply",
)
_MB = 1024 * 1024
#: how large a body may be: of files where files are taken, of JSON elsewhere; little from who shows no credentials
MOST_BYTES, MOST_ANONYMOUS_BYTES = 4 * _MB, 64 * 1024
_FILES = {"/api/v1/uploads/": 16 * _MB, "/api/v1/imports": 65 * _MB}
#: how long a body may take to come
BODY_SECONDS, FILE_SECONDS = 30.0, 300.0
#: how long a statement, and the wait for a lock, may take; then the answer is 503
STATEMENT_MS, LOCK_MS = 60_000, 5_000


def _bound_statements(connection: Any, **_: Any) -> None:
    with connection.cursor() as cursor:
        cursor.execute("SELECT set_config('statement_timeout', %s, false)", [str(STATEMENT_MS)])
        cursor.execute("SELECT set_config('lock_timeout', %s, false)", [str(LOCK_MS)])


connection_created.connect(_bound_statements, dispatch_uid="herald.asgi")


class Refused(Exception):
    """A request that is not read to its end."""

    def __init__(self, status: int, code: str, title: str, detail: str) -> None:
        super().__init__(detail)
        self.status, self.code, self.title, self.detail = status, code, title, detail


class OneHopHandler(ASGIHandler):
    """Runs synchronous middleware and view together in a thread that keeps its database connection."""

    def __init__(self) -> None:
        self.load_middleware(is_async=False)
        self.pool = ThreadPoolExecutor(THREADS, thread_name_prefix="web")
        self.heavy = ThreadPoolExecutor(HEAVY_THREADS, thread_name_prefix="heavy")

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        try:
            body = await read_bounded(scope, receive)
        except Refused as refusal:
            await refuse(send, refusal)
            return
        pool = self.heavy if scope["path"].endswith(_HEAVY) else self.pool
        question = _Question()
        work = asyncio.get_running_loop().run_in_executor(pool, self._work, scope, body, question)
        if scope["method"] == "GET" or scope["path"].startswith("/api/v1/rules/"):
            gone = asyncio.create_task(_hung_up(receive))
            await asyncio.wait({work, gone}, return_when=asyncio.FIRST_COMPLETED)
            if not work.done():  # whoever asked has gone; nobody needs the answer
                await question.give_up()
            gone.cancel()
        await self.send_response(await work, send)

    def _work(self, scope: Any, body: Any, question: "_Question") -> Any:
        set_script_prefix(get_script_prefix(scope))
        signals.request_started.send(sender=self.__class__, scope=scope)
        question.begins()
        try:
            request, refusal = self.create_request(scope, body)
            # one of the two is there; Django's own types do not say so
            response: Any = refusal if refusal is not None or request is None else self.get_response(request)
            response._handler_class = self.__class__
            if response.streaming:  # files: small, and read here rather than on the event loop
                whole = HttpResponse(b"".join(response.streaming_content), status=response.status_code)
                whole.headers, whole.cookies = response.headers, response.cookies
                response.close()
                response = whole
        finally:
            question.ends()
        response.close()  # ends the request in this thread, where its connection is
        return response


class _Question:
    """The database's work for one request, which can be given up from outside its thread."""

    def __init__(self) -> None:
        self._connection: Any = None

    def begins(self) -> None:
        """The thread that works on it says which connection is its own."""
        self._connection = connections["default"]  # itself, not the proxy that is another in each thread

    def ends(self) -> None:
        self._connection = None

    async def give_up(self) -> None:
        """End the statement that runs, if one does. The view sees a statement that was cancelled."""
        wrapper = self._connection
        raw = getattr(wrapper, "connection", None) if wrapper is not None else None
        if raw is None:
            return
        await asyncio.get_running_loop().run_in_executor(None, _cancel, raw)


def _cancel(raw: Any) -> None:
    try:
        raw.cancel_safe(timeout=2.0)
    except Exception:  # it ended by itself, or the database is away: there is nothing to give up
        return


async def _hung_up(receive: Any) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


async def read_bounded(scope: Any, receive: Any) -> IO[bytes]:
    """The body of a request, in memory or a file.

    Raises:
        Refused: it is larger than what is taken there (told before it is read, where its length is said), or comes
            too slowly.
    """
    headers = dict(scope["headers"])
    known = b"cookie" in headers or b"authorization" in headers
    most = next((n for path, n in _FILES.items() if scope["path"].startswith(path)), MOST_BYTES)
    most = most if known else min(most, MOST_ANONYMOUS_BYTES)
    length = headers.get(b"content-length", b"")
    too_long = Refused(413, "too-long", "The body is too long", f"At most {most:,} bytes are taken here.")
    if length.isdigit() and int(length) > most:
        raise too_long
    body: IO[bytes] = tempfile.SpooledTemporaryFile(  # noqa: SIM115  closed with the request
        max_size=settings.FILE_UPLOAD_MAX_MEMORY_SIZE, mode="w+b"
    )
    received = 0
    try:
        async with asyncio.timeout(BODY_SECONDS if most <= MOST_BYTES else FILE_SECONDS):
            while True:
                message = await receive()
                if message["type"] == "http.disconnect":
                    raise Refused(400, "hung-up", "The request ended early", "The connection was closed.")
                received += len(message.get("body", b""))
                if received > most:
                    raise too_long
                body.write(message.get("body", b""))
                if not message.get("more_body"):
                    body.seek(0)
                    return body
    except TimeoutError:
        body.close()
        raise Refused(408, "too-slow", "The body came too slowly", "Send it again.") from None
    except Refused:
        body.close()
        raise


handler = OneHopHandler()
watcher = Watcher(threading.Event(), beats_as=SERVER)


async def app(scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
    """Answer one request of a browser or a script."""
    if scope["type"] == "lifespan":
        await _lifespan(receive, send)
    elif scope["type"] == "http" and scope["path"] == EVENTS_PATH:
        hub.start()
        loop = asyncio.get_running_loop()

        async def listener() -> User | None:
            return await loop.run_in_executor(handler.pool, _signed_in, scope)

        async def may_listen() -> bool:
            try:
                again = await listener()
            except (OperationalError, InterfaceError):
                return True  # nobody knows while the database is away; it is asked again
            # whose limits have changed asks anew
            return again is not None and known is not None and again.sees_a_part == known.sees_a_part

        try:
            known = await listener()
        except (OperationalError, InterfaceError):
            await refuse(send, Refused(503, "unavailable", "The database does not answer", "Try again in a moment."))
            return
        if known:
            await serve_events(receive, send, may_listen, names_objects=not known.sees_a_part)
        else:
            await refuse(send, Refused(401, "not-authenticated", "Sign in first", "Sign in, or send a token."))
    elif scope["type"] == "http":
        await handler(scope, receive, send)


def _signed_in(scope: MutableMapping[str, Any]) -> User | None:
    """Whoever's session or token a request shows, where it holds."""
    close_old_connections()
    headers = dict(scope["headers"])
    request = HttpRequest()
    if b"authorization" in headers:
        request.META["HTTP_AUTHORIZATION"] = headers[b"authorization"].decode("latin-1")
        try:
            found = TokenAuthentication().authenticate(request)
        except AuthenticationFailed:
            return None
        listener = found[0] if found is not None else None
        if not isinstance(listener, User) or not listener.is_active:
            return None
        note_use(listener)
        return listener
    cookies: SimpleCookie = SimpleCookie()
    cookies.load(headers.get(b"cookie", b"").decode("latin-1"))
    morsel = cookies.get(settings.SESSION_COOKIE_NAME)
    request.session = SessionStore(morsel.value if morsel else None)
    user = get_user(request)
    return user if isinstance(user, User) and not is_marked(request) else None


async def refuse(send: Send, refusal: Refused) -> None:
    """Answer with problem details, without Django."""
    body = json.dumps(problem_body(refusal.status, refusal.code, refusal.title, refusal.detail)).encode()
    headers = [(b"content-type", b"application/problem+json"), (b"content-length", str(len(body)).encode())]
    if refusal.status in (413, 408):
        headers.append((b"connection", b"close"))  # what is left of the body is not read
    if refusal.status == 503:
        headers.append((b"retry-after", str(RETRY_AFTER_SECONDS).encode()))
    await send({"type": "http.response.start", "status": refusal.status, "headers": headers})
    await send({"type": "http.response.body", "body": body})


async def _lifespan(receive: Receive, send: Send) -> None:
    while True:
        message = await receive()
        if message["type"] == "lifespan.startup":
            settle_memory()
            threading.Thread(target=watcher.run, name="watch", daemon=True).start()
        else:
            watcher.stop.set()
        await send({"type": message["type"] + ".complete"})
        if message["type"] == "lifespan.shutdown":
            return
