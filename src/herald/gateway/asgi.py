"""The device gateway: a lean ASGI application with a port of its own, without Django's handler."""

import asyncio
import os
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "herald.settings")
django.setup()

import msgspec  # noqa: E402  the models below need Django set up
import structlog  # noqa: E402
from django.db.utils import InterfaceError, OperationalError  # noqa: E402

from herald.fleet.secrets import hash_secret  # noqa: E402
from herald.gateway import files  # noqa: E402
from herald.gateway.batch import UNAVAILABLE, Batcher  # noqa: E402
from herald.gateway.enrolment import enrol, public_keys  # noqa: E402
from herald.gateway.flush import PendingCheckIn, counters  # noqa: E402
from herald.gateway.messages import MAX_BODY_BYTES, ProtocolError, read_check_in  # noqa: E402
from herald.gateway.metrics import METRICS_TYPE, told_metrics  # noqa: E402
from herald.gateway.openapi import DOCUMENT  # noqa: E402
from herald.gateway.outputs import take_piece  # noqa: E402
from herald.memory import settle_memory  # noqa: E402

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]

_encode = msgspec.json.Encoder().encode
_JSON = (b"content-type", b"application/json")
RETRY_AFTER_SECONDS = b"30"
#: how long a body may take to come; 64 KB come over the slowest line in that time
BODY_SECONDS = 20.0
batcher = Batcher()
log = structlog.get_logger()


async def app(scope: Scope, receive: Receive, send: Send) -> None:
    """Answer one request of a device."""
    if scope["type"] == "lifespan":
        await _lifespan(receive, send)
        return
    if scope["type"] != "http":
        return
    try:
        await _route(scope, receive, send)
    except ProtocolError as refusal:
        await _problem(send, refusal)
    except (OperationalError, InterfaceError) as error:
        log.warning("database_unreachable", path=scope["path"], error=str(error).strip())
        await _problem(send, UNAVAILABLE)
    except ConnectionError:
        return  # the device hung up
    except Exception:
        log.exception("request_failed", path=scope["path"])
        await _problem(
            send, ProtocolError(500, "internal", "Something failed here; the reason is in the server's log.")
        )


async def _route(scope: Scope, receive: Receive, send: Send) -> None:
    method, path = scope["method"], scope["path"]
    if path == "/device/v1/check-in" and method == "POST":
        await _check_in(scope, receive, send)
    elif path.startswith("/device/v1/images/") and method in ("GET", "HEAD"):
        await _image(scope, send, path.rsplit("/", 1)[1])
    elif path.startswith("/device/v1/orders/") and path.endswith("/output") and method == "PATCH":
        await _output(scope, receive, send, path.split("/")[4])
    elif path == "/device/v1/enrol" and method == "POST":
        body = await _read(scope, receive)
        address = (scope.get("client") or ("",))[0]
        answer = await asyncio.get_running_loop().run_in_executor(None, enrol, body, address)
        await _send(send, 200, _encode(answer))
    elif path == "/device/v1/keys" and method == "GET":
        await _send(send, 200, _encode(await asyncio.get_running_loop().run_in_executor(None, public_keys)))
    elif path == "/device/v1/health" and method == "GET":
        healthy = await batcher.reaches_database()
        await _send(send, 200 if healthy else 503, _encode({"ok": healthy, **vars(counters)}))
    elif path == "/metrics" and method == "GET":
        await _send(send, 200, told_metrics(), ((b"content-type", METRICS_TYPE),))
    elif path == "/device/v1/schema" and method == "GET":
        await _send(send, 200, _encode(DOCUMENT))
    elif path == "/device/v1/no-op" and method == "POST":
        await _read(scope, receive)
        await _send(send, 200, b"{}")
    else:
        raise ProtocolError(404, "no-such-call", f"There is no {method} {path} here.")


async def _check_in(scope: Scope, receive: Receive, send: Send) -> None:
    secret_hash = _secret_hash(scope)
    message = read_check_in(await _read(scope, receive))
    answer = await batcher.submit(PendingCheckIn(secret_hash, message))
    if isinstance(answer, ProtocolError):
        raise answer
    await _send(send, 200, _encode(answer))


async def _output(scope: Scope, receive: Receive, send: Send, order: str) -> None:
    secret_hash, offset = _secret_hash(scope), _header(scope, b"upload-offset")
    piece = await _read(scope, receive)
    found = await asyncio.get_running_loop().run_in_executor(None, take_piece, order, offset, piece, secret_hash)
    is_next = found.cut or found.offset == int(offset) + len(piece)
    await _send(send, 200 if is_next else 409, _encode({"offset": found.offset, "cut": found.cut}))


async def _image(scope: Scope, send: Send, sha256: str) -> None:
    loop = asyncio.get_running_loop()
    path = await loop.run_in_executor(None, files.find_file, sha256, _secret_hash(scope))
    size = path.stat().st_size
    if files.is_known(_header(scope, b"if-none-match"), sha256):
        headers = [(b"etag", f'"{sha256}"'.encode())]
        await send({"type": "http.response.start", "status": 304, "headers": headers})
        await send({"type": "http.response.body", "body": b""})
        return
    wanted = _header(scope, b"range") if files.still_holds(_header(scope, b"if-range"), sha256) else ""
    try:
        span = files.read_range(wanted, size)
    except ProtocolError as refusal:
        await _problem(send, refusal, ((b"content-range", f"bytes */{size}".encode()),))
        return
    headers = files.file_headers(sha256, size, span)
    await send({"type": "http.response.start", "status": 206 if span else 200, "headers": headers})
    if scope["method"] == "GET":
        start, end = span or (0, size)
        async for chunk in files.chunks(path, start, end):
            await send({"type": "http.response.body", "body": chunk, "more_body": True})
    await send({"type": "http.response.body", "body": b""})


def _header(scope: Scope, name: bytes) -> str:
    for key, value in scope["headers"]:
        if key == name:
            return str(value.decode("latin-1"))
    return ""


def _secret_hash(scope: Scope) -> str:
    kind, _, secret = _header(scope, b"authorization").partition(" ")
    if kind.lower() != "bearer" or not secret.strip():
        raise ProtocolError(401, "no-secret", "The header Authorization: Bearer with the device's secret is missing.")
    return hash_secret(secret.strip())


async def _read(scope: Scope, receive: Receive) -> bytes:
    """The body, refused as soon as it is known to be too long."""
    too_long = ProtocolError(413, "too-long", f"A body has at most {MAX_BODY_BYTES} bytes.")
    length = _header(scope, b"content-length")
    if length.isdigit() and int(length) > MAX_BODY_BYTES:
        raise too_long
    body: bytes = b""
    try:
        async with asyncio.timeout(BODY_SECONDS):
            while True:
                message = await receive()
                if message["type"] == "http.disconnect":
                    raise ConnectionError
                body += message.get("body", b"")
                if len(body) > MAX_BODY_BYTES:
                    raise too_long
                if not message.get("more_body"):
                    return body
    except TimeoutError:
        raise ProtocolError(408, "too-slow", f"The body must come within {BODY_SECONDS:g} s.") from None


async def _send(send: Send, status: int, body: bytes, headers: tuple[tuple[bytes, bytes], ...] = (_JSON,)) -> None:
    all_headers = [*headers, (b"content-length", str(len(body)).encode())]
    await send({"type": "http.response.start", "status": status, "headers": all_headers})
    await send({"type": "http.response.body", "body": body})


async def _problem(send: Send, refusal: ProtocolError, more: tuple[tuple[bytes, bytes], ...] = ()) -> None:
    body = _encode(
        {
            "type": f"urn:brisk-herald:problem:{refusal.code}",
            "title": refusal.code.replace("-", " ").capitalize(),
            "status": refusal.status,
            "detail": refusal.detail,
        }
    )
    headers: tuple[tuple[bytes, bytes], ...] = ((b"content-type", b"application/problem+json"), *more)
    if refusal.status in (429, 503):
        headers += ((b"retry-after", RETRY_AFTER_SECONDS),)
    if refusal.status == 401:
        headers += ((b"www-authenticate", b"Bearer"),)
    await _send(send, refusal.status, body, headers)


async def _lifespan(receive: Receive, send: Send) -> None:
    while True:
        message = await receive()
        if message["type"] == "lifespan.startup":
            settle_memory()
            batcher.start_beating()
        await send({"type": message["type"] + ".complete"})
        if message["type"] == "lifespan.shutdown":
            batcher.stop_beating()
            return
