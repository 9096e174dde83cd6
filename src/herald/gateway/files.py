"""Image files for devices: whole or in part (RFC 9110, Range)."""

import asyncio
import re
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import close_old_connections

from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.gateway.flush import RETIRED, UNKNOWN
from herald.gateway.messages import ProtocolError

CHUNK_BYTES = 256 * 1024
_RANGE = re.compile(r"bytes=(\d{0,15})-(\d{0,15})\Z")
_HASH = re.compile(r"[0-9a-f]{64}\Z")


def find_file(sha256: str, secret_hash: str) -> Path:
    """The file of that hash, for a device that has an active order for it.

    Raises:
        ProtocolError: unknown or retired device, no order for this file, or no such file.
    """
    close_old_connections()
    device = Device.objects.filter(secret_hash=secret_hash).values_list("id", "admission").first()
    if not secret_hash or device is None:
        raise UNKNOWN
    if device[1] == "retired":
        raise RETIRED
    path = Path(settings.IMAGES_DIR) / sha256
    ordered = Delivery.objects.in_hand().filter(device=device[0], image__sha256=sha256)
    if not _HASH.match(sha256) or not ordered.exists() or not path.is_file():
        raise ProtocolError(404, "no-such-image", "There is no file with this hash for which this device has an order.")
    return path


def is_known(if_none_match: str, sha256: str) -> bool:
    """Whether the device has the file already, as it says (RFC 9110, If-None-Match: a weak comparison)."""
    tags = [t.strip().removeprefix("W/") for t in if_none_match.split(",")]
    return "*" in tags or f'"{sha256}"' in tags


def still_holds(if_range: str, sha256: str) -> bool:
    """Whether a part may be sent: what the device has is of this file (RFC 9110, If-Range, compared strongly)."""
    return not if_range.strip() or if_range.strip() == f'"{sha256}"'


def read_range(header: str, size: int) -> tuple[int, int] | None:
    """The bytes asked for as [start, end), or None for the whole file.

    Raises:
        ProtocolError: 416 where the range starts beyond the end.
    """
    match = _RANGE.match(header.strip())
    if match is None or not (match[1] or match[2]):
        return None  # RFC 9110: a range that is not understood is ignored
    if not match[1]:  # the last so many bytes
        start, end = max(0, size - int(match[2])), size
    else:
        start, end = int(match[1]), min(size, int(match[2]) + 1) if match[2] else size
        if match[2] and int(match[2]) < start:
            return None
    if start >= size or start >= end:
        raise ProtocolError(416, "range", f"The file has {size} bytes.")
    return start, end


async def chunks(path: Path, start: int, end: int) -> AsyncIterator[bytes]:
    """The bytes [start, end) of a file, piece by piece."""
    loop = asyncio.get_running_loop()
    with path.open("rb") as file:
        file.seek(start)
        left = end - start
        while left > 0:
            data = await loop.run_in_executor(None, file.read, min(CHUNK_BYTES, left))
            if not data:
                return
            left -= len(data)
            yield data


def file_headers(sha256: str, size: int, span: tuple[int, int] | None) -> list[tuple[bytes, Any]]:
    """Headers for a file or a part of it."""
    start, end = span or (0, size)
    headers = [
        (b"content-type", b"application/octet-stream"),
        (b"content-length", str(end - start).encode()),
        (b"etag", f'"{sha256}"'.encode()),
        (b"accept-ranges", b"bytes"),
    ]
    if span:
        headers.append((b"content-range", f"bytes {start}-{end - 1}/{size}".encode()))
    return headers
