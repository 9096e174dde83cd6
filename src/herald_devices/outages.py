"""Sites whose uplink is gone for a while: a file says which, and until when."""

import json
import random
import time
from pathlib import Path
from typing import Any

from herald_devices.device import Server
from herald_devices.link import Unreachable

LOOK_SECONDS = 1.0
#: so long a device waits before it tries again
WAIT_SECONDS = 2.0


class Outages:
    """Sites by name, and when each is over (Unix time), as a JSON object in a file that may change at any moment."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._until: dict[str, float] = {}
        self._looked_at = float("-inf")

    def is_cut(self, site: str) -> bool:
        """Whether nothing gets through from a site now."""
        now = time.monotonic()
        if now - self._looked_at >= LOOK_SECONDS:
            self._looked_at = now
            try:
                self._until = json.loads(self._path.read_text())
            except FileNotFoundError:
                self._until = {}
            except json.JSONDecodeError:
                pass  # half of it is there; what was known holds until the next look
        return time.time() < self._until.get(site, float("-inf"))


class Uplink:
    """The way from one site to the server, which may be cut."""

    def __init__(self, server: Server, site: str, outages: Outages) -> None:
        self._server, self._site, self._outages = server, site, outages

    def _reach(self) -> Server:
        if self._outages.is_cut(self._site):
            raise Unreachable(WAIT_SECONDS)
        return self._server

    async def check_in(self, secret: str, body: dict[str, Any]) -> dict[str, Any]:
        return await self._reach().check_in(secret, body)

    async def fetch(self, secret: str, order: dict[str, Any], rng: random.Random, **how: Any) -> None:
        await self._reach().fetch(secret, order, rng, **how)

    async def send_output(self, secret: str, order_id: str, output: bytes) -> None:
        await self._reach().send_output(secret, order_id, output)

    async def enrol(self, body: dict[str, Any]) -> dict[str, Any] | None:
        return await self._reach().enrol(body)
