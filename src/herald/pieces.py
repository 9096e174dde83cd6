"""Files that come in pieces, each written where the one before ended."""

import os
from pathlib import Path


def write_piece(path: Path, offset: int, piece: bytes) -> None:
    """Write a piece at its offset and make sure of it. What a crash left beyond the offset is written over."""
    handle = os.open(path, os.O_WRONLY | os.O_CREAT, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.truncate(offset)
        file.seek(offset)
        file.write(piece)
        file.flush()
        os.fsync(file.fileno())
