"""Runs one of the two ASGI applications: `python -m herald.serving herald.asgi:app --port 8000`.

Uvicorn bounds neither how long a caller may take to send its request's head, nor how many may be connected; both are
bounded here, so that callers who send nothing cannot shut the others out.
"""

import argparse
import asyncio
import os
import resource
from typing import Any

import uvicorn
from django.conf import settings
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

#: how long a new connection may take to send the head of its first request
HEAD_SECONDS = 20.0
#: connections at most; each takes a file descriptor, and some are needed for everything else
MOST_CONNECTIONS = 8000
SPARE_DESCRIPTORS = 200


class BoundedProtocol(HttpToolsProtocol):
    """Closes connections that do not say what they want."""

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        self._deadline = asyncio.get_running_loop().call_later(HEAD_SECONDS, self._close_if_silent)
        self._has_spoken = False

    def on_headers_complete(self) -> None:
        self._has_spoken = True
        self._deadline.cancel()
        super().on_headers_complete()

    def connection_lost(self, exc: Exception | None) -> None:
        self._deadline.cancel()
        super().connection_lost(exc)

    def _close_if_silent(self) -> None:
        if not self._has_spoken and not self.transport.is_closing():
            self.transport.close()


def raise_descriptors() -> int:
    """Let this process have as many connections as the machine allows, up to `MOST_CONNECTIONS`; how many."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = MOST_CONNECTIONS + SPARE_DESCRIPTORS
    most = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
    if soft != resource.RLIM_INFINITY and soft < most:
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))
        soft = most
    return MOST_CONNECTIONS if soft == resource.RLIM_INFINITY else max(100, min(wanted, soft) - SPARE_DESCRIPTORS)


def main(arguments: list[str] | None = None) -> None:
    """Serve until told to stop."""
    parser = argparse.ArgumentParser(prog="herald.serving")
    parser.add_argument("app")
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--keep-alive", type=int, default=5, help="seconds an idle connection is kept")
    given = parser.parse_args(arguments)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "herald.settings")
    uvicorn.run(
        given.app,
        host=given.host,
        port=given.port,
        http=BoundedProtocol,
        access_log=False,
        log_level="warning",
        timeout_keep_alive=given.keep_alive,
        timeout_graceful_shutdown=2,
        limit_concurrency=raise_descriptors(),
        backlog=4096,
        proxy_headers=bool(settings.TRUSTED_PROXIES),
        forwarded_allow_ips=",".join(settings.TRUSTED_PROXIES),
    )


if __name__ == "__main__":
    main()
