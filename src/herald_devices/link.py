"""A device's side of the protocol: HTTP with retries, ranges, hashes and signatures."""

import asyncio
import hashlib
import json
import random
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import aclosing, asynccontextmanager
from typing import Any

import aiohttp
import jwt

from herald_core.versions import version_key

SLOW_CHUNK_BYTES = 400_000
FETCH_TRIES = 6
PIECE_BYTES, PIECE_TRIES = 48_000, 8
TIMEOUT_SECONDS = 60
#: calls under way at once, and files; devices beyond that wait here, not in the HTTP library's pool
CALLS_AT_ONCE = 128
FILES_AT_ONCE = 24


class Retired(Exception):
    """The server wants to hear no more of this device."""


class Unreachable(Exception):
    """The server did not answer as it should; try again after `wait` (real seconds)."""

    def __init__(self, wait: float) -> None:
        super().__init__(f"try again in {wait} s")
        self.wait = wait


class BadImage(Exception):
    """The file is not what the order says; the word goes into the report."""

    def __init__(self, word: str, text: str) -> None:
        super().__init__(text)
        self.word = word


def open_session() -> aiohttp.ClientSession:
    """A session whose pool never makes a call wait: the link bounds them itself."""
    timeout = aiohttp.ClientTimeout(total=None, connect=TIMEOUT_SECONDS, sock_read=TIMEOUT_SECONDS)
    return aiohttp.ClientSession(timeout=timeout, connector=aiohttp.TCPConnector(limit=0))


class Gateway:
    """The server as devices see it."""

    def __init__(self, base: str, session: aiohttp.ClientSession) -> None:
        self._base = base
        self._session = session
        self._keys: dict[str, Any] = {}
        self._slots = asyncio.Semaphore(CALLS_AT_ONCE)
        self._transfers = asyncio.Semaphore(FILES_AT_ONCE)
        #: calls that were begun and have not ended, and how many have ended
        self.in_hand = 0
        self.ended = 0

    async def check_in(self, secret: str, body: dict[str, Any]) -> dict[str, Any]:
        """One round trip.

        Raises:
            Retired: the device is not wanted any more.
            Unreachable: no useful answer.
        """
        try:
            async with (
                self._slot(),
                self._session.post(
                    f"{self._base}/device/v1/check-in", json=body, headers={"Authorization": f"Bearer {secret}"}
                ) as response,
            ):
                if response.status == 200:
                    return dict(await response.json())
                if response.status in (401, 410):
                    raise Retired
                raise Unreachable(float(response.headers.get("Retry-After", "2")))
        except (aiohttp.ClientError, TimeoutError) as error:
            raise Unreachable(2.0) from error

    async def send_output(self, secret: str, order_id: str, output: bytes) -> None:
        """Send what an order gave, in pieces; a piece that was lost is sent again, and what is cut stays unsent.

        Raises:
            Unreachable: the server takes no more now.
        """
        url, offset = f"{self._base}/device/v1/orders/{order_id}/output", 0
        for _ in range(PIECE_TRIES + len(output) // PIECE_BYTES):
            headers = {"Authorization": f"Bearer {secret}", "Upload-Offset": str(offset)}
            piece = output[offset : offset + PIECE_BYTES]
            try:
                async with self._slot(), self._session.patch(url, data=piece, headers=headers) as response:
                    if response.status not in (200, 409):
                        return  # the order is over, or the server wants none of it
                    answer = await response.json()
            except (aiohttp.ClientError, TimeoutError):
                await asyncio.sleep(1)
                continue
            offset = int(answer["offset"])
            if offset >= len(output) or answer.get("cut"):
                return
        raise Unreachable(2.0)

    async def enrol(self, body: dict[str, Any]) -> dict[str, Any] | None:
        """Enrol with a code; None where the server refuses it.

        Raises:
            Unreachable: no useful answer.
        """
        try:
            async with self._slot(), self._session.post(f"{self._base}/device/v1/enrol", json=body) as response:
                if response.status == 200:
                    return dict(await response.json())
                if response.status < 500:
                    return None
                raise Unreachable(2.0)
        except (aiohttp.ClientError, TimeoutError) as error:
            raise Unreachable(2.0) from error

    @asynccontextmanager
    async def _slot(self) -> AsyncIterator[None]:
        self.in_hand += 1
        try:
            async with self._slots:
                yield
        finally:
            self.in_hand -= 1
            self.ended += 1

    async def fetch(
        self,
        secret: str,
        order: dict[str, Any],
        rng: random.Random,
        *,
        slow: bool,
        spoil: bool,
        model: str,
        hardware: str,
        firmware: str | None,
        pause: Callable[[float], Awaitable[None]],
    ) -> None:
        """Fetch the order's file, resuming where a link breaks, and verify size, hash and signature.

        Args:
            slow: fetch in parts, as a poor link does.
            spoil: one bit is lost on the way.
            model, hardware, firmware: what the device is and runs; the signature must be over an image for it.
            pause: sleeps for so many seconds of the demo's time.

        Raises:
            BadImage: size, hash or signature do not fit.
            Unreachable: the file could not be fetched.
        """
        digest, got = hashlib.sha256(), 0
        async with self._transfers:
            for _ in range(FETCH_TRIES):
                try:
                    async with aclosing(self._parts(secret, order, got, slow=slow)) as parts:
                        async for chunk in parts:
                            got += len(chunk)
                            digest.update(chunk)
                            if slow:
                                await pause(rng.uniform(1, 20))
                                if rng.random() < 0.05:
                                    raise aiohttp.ClientConnectionError("the link broke")
                    break
                except (aiohttp.ClientError, TimeoutError):
                    await pause(20)
            else:
                raise Unreachable(2.0)
        if spoil:
            digest.update(b"?")
        if got != order["size"]:
            raise BadImage("bad-size", f"{got} bytes came, {order['size']} were announced")
        if digest.hexdigest() != order["sha256"]:
            raise BadImage("bad-hash", "the file's SHA-256 is not the announced one")
        await self._verify(order, model, hardware, firmware)

    async def _parts(self, secret: str, order: dict[str, Any], got: int, *, slow: bool) -> Any:
        """The bytes of the file from offset `got` on, in pieces."""
        url, size = f"{self._base}/device/v1/images/{order['sha256']}", order["size"]
        while got < size:
            end = min(size, got + SLOW_CHUNK_BYTES) if slow else size
            headers = {"Authorization": f"Bearer {secret}", "Range": f"bytes={got}-{end - 1}"}
            async with self._session.get(url, headers=headers) as response:
                if response.status != 206:
                    raise aiohttp.ClientConnectionError(f"status {response.status}")
                async for chunk in response.content.iter_chunked(1 << 18):
                    got += len(chunk)
                    yield chunk

    async def _verify(self, order: dict[str, Any], model: str, hardware: str, firmware: str | None) -> None:
        """Check that what is signed is this file, for this device, and that it may go down to it where it is older."""
        signed = await self._signed(order["jws"])
        if {k: signed.get(k) for k in ("version", "size", "sha256")} != {
            k: order[k] for k in ("version", "size", "sha256")
        }:
            raise BadImage("bad-signature", "the signature is over something else")
        fits = signed.get("hardware_revisions") or [hardware]
        if model not in signed.get("models", ()) or hardware not in fits:
            raise BadImage("wrong-model", f"the image is not for {model} {hardware}")
        if firmware is not None and version_key(order["version"]) < version_key(firmware):
            leave = await self._signed(order["downgrade"]) if order.get("downgrade") else {}
            if leave.get("version") != order["version"]:
                raise BadImage("downgrade-refused", f"{order['version']} is older than {firmware}")

    async def _signed(self, jws: str) -> dict[str, Any]:
        """What is signed, by a key that is trusted."""
        try:
            kid = jwt.get_unverified_header(jws).get("kid", "")
            if kid not in self._keys:
                async with self._slot(), self._session.get(f"{self._base}/device/v1/keys") as response:
                    self._keys = trusted(self._keys, (await response.json())["keys"])
            return dict(json.loads(jwt.api_jws.decode(jws, self._keys.get(kid, ""), algorithms=["EdDSA"])))
        except (jwt.PyJWTError, ValueError) as error:
            raise BadImage("bad-signature", str(error)) from error


def trusted(pinned: dict[str, Any], published: list[dict[str, Any]]) -> dict[str, Any]:
    """The published keys that a device may trust: those that it trusts already, and those that one of these signed, one
    after another. The first set that a device ever sees is trusted as it is."""
    keys = {k["kid"]: jwt.PyJWK(k).key for k in published}
    if not pinned:
        return keys
    known = dict(pinned)
    for _ in published:  # a key may be signed by one that was itself signed by another
        for key in published:
            if key["kid"] not in known and _is_endorsed(key, known):
                known[key["kid"]] = keys[key["kid"]]
    return {kid: key for kid, key in known.items() if kid in keys}


def _is_endorsed(key: dict[str, Any], known: dict[str, Any]) -> bool:
    try:
        by = jwt.get_unverified_header(key.get("endorsement", "")).get("kid", "")
        content = json.loads(jwt.api_jws.decode(key["endorsement"], known.get(by, ""), algorithms=["EdDSA"]))
    except (jwt.PyJWTError, ValueError, KeyError):
        return False
    return bool(content.get("kid") == key["kid"] and content.get("x") == key.get("x"))
