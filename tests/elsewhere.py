"""What stands elsewhere in tests: a mail server, a system that is called by webhooks, and one that is read from."""

import email
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from email.message import Message as Mail
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from aiosmtpd.controller import Controller

from herald_launch.steps import free_port


class PostOffice:
    """A mail server that keeps what it is handed, unless it is told to refuse."""

    def __init__(self) -> None:
        self.mails: list[Mail] = []
        self.refuses = False
        self.port = free_port()

    async def handle_DATA(  # noqa: N802  the library's name
        self, server: Any, session: Any, envelope: Any
    ) -> str:
        if self.refuses:
            return "451 come back later"
        self.mails.append(email.message_from_bytes(envelope.content))
        return "250 taken"

    def texts(self, to: str) -> list[str]:
        """Subject and text of what came for somebody, in the order in which it came."""
        return [f"{m['Subject']}\n{m.get_payload()}" for m in self.mails if m["To"] == to]


@contextmanager
def post_office() -> Iterator[PostOffice]:
    """A mail server on this machine."""
    kept = PostOffice()
    controller = Controller(kept, hostname="127.0.0.1", port=kept.port)
    controller.start()
    try:
        yield kept
    finally:
        controller.stop()


class Called:
    """A system that keeps the calls it gets, with their headers in lower case, and answers as it is told."""

    def __init__(self) -> None:
        self.calls: list[tuple[dict[str, str], bytes]] = []
        self.status = 204
        self.location = ""
        self.url = ""


@contextmanager
def called() -> Iterator[Called]:
    """A web server on this machine that takes calls."""
    kept = Called()

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["Content-Length"]))
            kept.calls.append(({k.lower(): v for k, v in self.headers.items()}, body))
            self.send_response(kept.status)
            if kept.location:
                self.send_header("Location", kept.location)
            self.send_header("Content-Length", "0")
            self.end_headers()

        def log_message(self, format: str, *args: object) -> None:
            pass

    with _served(Handler) as address:
        kept.url = f"{address}/hook"
        yield kept


Answer = Callable[[BaseHTTPRequestHandler], None]


@contextmanager
def web_server(answers: Mapping[str, Answer]) -> Iterator[str]:
    """A web server on this machine that answers by path; its address."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            answers[self.path](self)

        def log_message(self, format: str, *args: object) -> None:
            pass

    with _served(Handler) as address:
        yield address


def says(body: bytes, status: int = 200, **headers: str) -> Answer:
    """Answers with a body."""

    def answer(handler: BaseHTTPRequestHandler) -> None:
        handler.send_response(status)
        for name, value in headers.items():
            handler.send_header(name, value)
        handler.end_headers()
        handler.wfile.write(body)

    return answer


@contextmanager
def _served(handler: type[BaseHTTPRequestHandler]) -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        thread.join()
        server.server_close()
