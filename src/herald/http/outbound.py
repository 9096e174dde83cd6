"""The one client by which the server fetches what is elsewhere.

An address that somebody typed must not lead into the network that the server stands in: every address is checked after
its name is resolved, at the moment of connecting (a name that resolves differently the second time gains nothing), and
again at each redirect. What is read is bounded in size and time.
"""

import asyncio
import time
from collections.abc import Coroutine, Iterator, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address, IPv6Network, ip_address, ip_network
from typing import Protocol, TypeVar

import aiohttp
from aiohttp.abc import AbstractResolver, ResolveResult
from aiohttp.resolver import ThreadedResolver
from django.conf import settings
from yarl import URL

_T = TypeVar("_T")
#: jobs that fetch what is due share this lock, so that hosts which hang hold one place of a worker and no more
LOCK = "elsewhere"
#: how long one of those jobs goes on to begin with another address
TURN_SECONDS = 60.0
MOST_REDIRECTS = 5
SECONDS = 20.0
_CHUNK = 64 * 1024
#: where networks translate to IPv4 (RFC 6052): the last 32 bits are the address that is reached
_TRANSLATED = IPv6Network("64:ff9b::/96")


class FetchError(Exception):
    """What is elsewhere could not be read; the words say why, and may be shown."""


@dataclass(frozen=True)
class Fetched:
    """What was read, and from where after all redirects."""

    body: bytes
    url: str


def fetch(
    url: str, *, most_bytes: int, accept: str = "*/*", authorization: str = "", seconds: float = SECONDS
) -> Fetched:
    """Read what is at an address, of at most `most_bytes`, within so many seconds. An `authorization` is sent to the
    address itself, and nowhere that it leads on to.

    Raises:
        FetchError: it cannot be reached, is refused, answers an error, or is too large or too slow.
    """
    return _bounded(_fetch(url, most_bytes, accept, authorization), seconds)


def _bounded(work: Coroutine[None, None, _T], seconds: float) -> _T:
    """Do it within so many seconds; what goes wrong, in words.

    Raises:
        FetchError: it went wrong.
    """
    try:
        return asyncio.run(asyncio.wait_for(work, seconds))
    except TimeoutError:
        raise FetchError(f"It did not answer within {seconds:g} seconds.") from None
    except aiohttp.ClientConnectorDNSError as error:
        raise FetchError(f"There is no host named {error.host}.") from error
    except aiohttp.ClientConnectorError as error:
        raise FetchError(f"{error.host} could not be reached: {error.strerror or 'no connection'}.") from error
    except (aiohttp.ClientError, ValueError) as error:
        raise FetchError(f"It could not be read: {str(error) or type(error).__name__}.") from error


def in_turn(due: Sequence[_T], seconds: float = TURN_SECONDS) -> Iterator[_T]:
    """Those of what is due that can be begun with within so many seconds. The others are left to the next turn, in
    which they have waited the longest, and other jobs that fetch have theirs in between."""
    ends = time.monotonic() + seconds
    for one in due:
        if time.monotonic() >= ends:
            return
        yield one


def post(url: str, body: bytes, *, headers: Mapping[str, str], seconds: float = SECONDS) -> str:
    """Send a body to an address within so many seconds; what it answered, in words. Nothing that it leads on to is
    followed: the answer is for this address.

    Raises:
        FetchError: it cannot be reached, is refused, or answers anything but 2xx.
    """
    return _bounded(_post(url, body, headers), seconds)


def check_address(text: str) -> URL:
    """The address, where it is one that may be fetched; `webcal:` is what calendars call `https:`.

    Raises:
        FetchError: it is none, or one that is never fetched.
    """
    if text.startswith("webcal:"):
        text = "https:" + text.removeprefix("webcal:")
    try:
        url = URL(text)
    except ValueError as error:
        raise FetchError("This is not an address.") from error
    if url.scheme not in ("http", "https") or not url.host:
        raise FetchError("An address that begins with https:// or http:// is expected.")
    if url.user or url.password:
        raise FetchError("An address with a user name or password in it is not read.")
    try:
        literal = ip_address(url.host.split("%")[0])
    except ValueError:
        return url
    _check_allowed(literal, url.host)
    return url


def origin_of(address: str) -> str:
    """The host that an address leads to, with scheme and port; empty where it is no address."""
    try:
        return str(URL(address).origin())
    except ValueError:
        return ""


class Asked(Protocol):
    """An address that is read again and again, and what it is asked with."""

    url: str
    authorization: str


def settled_authorization(given: str | None, url: str, known: Asked | None) -> str:
    """What an address is asked with: what is given, or with None what was known, while the address is of the same host.
    Who changes the host has to know it: it would be sent there."""
    if given is not None:
        return given
    return known.authorization if known is not None and origin_of(known.url) == origin_of(url) else ""


def without_secrets(address: str) -> str:
    """An address without what may be secret in it, to be shown and recorded."""
    return address.partition("?")[0].partition("#")[0]


def is_allowed(address: IPv4Address | IPv6Address) -> bool:
    """Whether the server may connect to an address: a public one, or one of the networks that the settings allow."""
    reached = _reached(address)
    allowed = [ip_network(n) for n in settings.OUTBOUND_NETWORKS]
    return any(a in n for n in allowed for a in (address, reached)) or (
        reached.is_global and not reached.is_multicast and not reached.is_reserved
    )


def _reached(address: IPv4Address | IPv6Address) -> IPv4Address | IPv6Address:
    """The address that is reached in the end, where one is written inside another."""
    if isinstance(address, IPv4Address):
        return address
    if address in _TRANSLATED:
        return IPv4Address(int(address) & 0xFFFFFFFF)
    inner = address.ipv4_mapped or address.sixtofour or (address.teredo and address.teredo[1])
    return inner or address


def _check_allowed(address: IPv4Address | IPv6Address, host: str) -> None:
    if not is_allowed(address):
        raise FetchError(
            f"{host} is an address inside a network of its own, which is not read. Whoever runs the server can allow "
            "it by HERALD_OUTBOUND_NETWORKS."
        )


class _CheckedResolver(AbstractResolver):
    """Names to addresses, each of which is checked; what is connected to is exactly what was checked."""

    def __init__(self) -> None:
        self._inner = ThreadedResolver()

    async def resolve(self, host: str, port: int = 0, family: int = 0) -> list[ResolveResult]:
        found = await self._inner.resolve(host, port, family)  # type: ignore[arg-type]
        for result in found:
            _check_allowed(ip_address(result["host"].split("%")[0]), host)
        return found

    async def close(self) -> None:
        await self._inner.close()


async def _fetch(text: str, most_bytes: int, accept: str, authorization: str) -> Fetched:
    url = check_address(text)
    origin = url.origin()
    headers = {"Accept": accept, "Accept-Encoding": "identity", "User-Agent": "Brisk-Herald"}
    connector = aiohttp.TCPConnector(resolver=_CheckedResolver(), use_dns_cache=False)
    async with aiohttp.ClientSession(connector=connector, auto_decompress=False, headers=headers) as session:
        for _ in range(MOST_REDIRECTS + 1):
            own = {"Authorization": authorization} if authorization and url.origin() == origin else {}
            async with session.get(url, allow_redirects=False, headers=own) as answer:
                if answer.status in (301, 302, 303, 307, 308):
                    url = _next_address(url, answer.headers.getall("Location", []))
                    continue
                if answer.status != 200:
                    raise FetchError(f"{url.host} answered {answer.status} {answer.reason or ''}".strip() + ".")
                return Fetched(body=await _read(answer, most_bytes), url=str(url))
    raise FetchError(f"It leads on more than {MOST_REDIRECTS} times.")


async def _post(text: str, body: bytes, given: Mapping[str, str]) -> str:
    url = check_address(text)
    headers = {**given, "User-Agent": "Brisk-Herald"}
    connector = aiohttp.TCPConnector(resolver=_CheckedResolver(), use_dns_cache=False)
    async with (
        aiohttp.ClientSession(connector=connector, headers=headers) as session,
        session.post(url, data=body, allow_redirects=False) as answer,
    ):
        words = f"{url.host} answered {answer.status} {answer.reason or ''}".strip()
        if not 200 <= answer.status < 300:
            raise FetchError(f"{words}.")
        return words


def _next_address(url: URL, locations: Sequence[str]) -> URL:
    if not locations:
        raise FetchError(f"{url.host} leads on without saying where.")
    following = check_address(str(url.join(URL(locations[0]))))
    if url.scheme == "https" and following.scheme != "https":
        raise FetchError("It leads from https on to http, which is not followed.")
    return following


async def _read(answer: aiohttp.ClientResponse, most_bytes: int) -> bytes:
    body = bytearray()
    async for chunk in answer.content.iter_chunked(_CHUNK):
        body += chunk
        if len(body) > most_bytes:
            raise FetchError(f"It is larger than {most_bytes // 1024:,} kB.")
    return bytes(body)
