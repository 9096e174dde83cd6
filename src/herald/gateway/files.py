"""Image files for devices: whole or in part (RFC 9110, Range)."""

import asyncio
import re
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import close_old_connections

from herald.fleet.models import Device
from herald.gateway.flush import RETIRED, UNKNOWN
from herald.gateway.messages import Refused
from herald.images.models import Image

CHUNK_BYTES = 256 * 1024
_RANGE = re.compile(r"bytes=(\d{1,15})-(\d{0,15})\Z")
_HASH = re.compile(r"[0-9a-f]{64}\Z")


def find_file(sha256: str, secret_hash: str) -> Path:
    """The file of that hash, for a device that may have it.

    Raises:
        Refused: unknown or retired device, or no such file.
    """
    close_old_connections()
    admission = Device.objects.filter(secret_hash=secret_hash).values_list("admission", flat=True).first()
    if not secret_hash or admission is None:
        raise UNKNOWN
    if admission == "retired":
        raise RETIRED
    path = Path(settings.IMAGES_DIR) / sha256
    if not _HASH.match(sha256) or not Image.objects.with_file(sha256).exists() or not path.is_file():
        raise Refused(404, "no-such-image", "There is no image with this hash.")
    return path


def read_range(header: str, size: int) -> tuple[int, int] | None:
    """The bytes asked for as [start, end), or None for the whole file.

    Raises:
        Refused: 416 where the range starts beyond the end.
    """
    match = _RANGE.match(header.strip())
    if match is None:
        return None  # RFC 9110: a range that is not understood is ignored
    start = int(match[1])
    end = min(size, int(match[2]) + 1) if match[2] else size
    if start >= size or start >= end:
        raise Refused(416, "range", f"The file has {size} bytes.")
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
