"""Files on their way in: in pieces, so that a cut line goes on where it was cut."""

import hashlib
import shutil
import threading
from collections import OrderedDict
from datetime import datetime, timedelta
from pathlib import Path
from uuid import UUID

from django.conf import settings
from django.db import transaction

from herald.http.errors import Conflict, Invalid
from herald.images.models import Upload
from herald.people.models import User
from herald.pieces import write_piece

MAX_BYTES = 2 * 1024**3
PIECE_BYTES = 8 * 1024**2
SPARE_BYTES = 64 * 1024**2  # left free on the disk beside the file
FORGOTTEN_AFTER = timedelta(days=1)


def path_of(upload: Upload) -> Path:
    """Where the pieces are kept."""
    return Path(settings.IMAGES_DIR) / "uploads" / str(upload.pk)


def begin_upload(file_name: str, size_bytes: int, *, actor: User | None, now: datetime) -> Upload:
    """Make room for a file.

    Raises:
        Invalid: it is empty or too large. Conflict: the disk has no room for it.
    """
    if not 0 < size_bytes <= MAX_BYTES:
        raise Invalid("/size_bytes", f"A file has 1 byte to {MAX_BYTES // 1024**3} GB.")
    folder = Path(settings.IMAGES_DIR) / "uploads"
    folder.mkdir(parents=True, exist_ok=True)
    free = shutil.disk_usage(folder).free
    if free < size_bytes + SPARE_BYTES:
        raise Conflict(f"The server's disk has {free // 1024**2} MB left, which this file would not leave enough of.")
    return Upload.objects.create(file_name=file_name[:200], size_bytes=size_bytes, last_at=now, started_by=actor)


def append(upload_id: UUID, offset: int, piece: bytes, *, now: datetime) -> Upload:
    """Write the piece that comes next. What a crash left half written beyond `received_bytes` is written anew.

    Raises:
        Conflict: another piece comes next; `received` says from where. Invalid: it is too long.
    """
    with transaction.atomic():
        upload = Upload.objects.select_for_update().get(pk=upload_id)
        if offset != upload.received_bytes:
            raise Conflict(f"The next piece begins at byte {upload.received_bytes}.", received=upload.received_bytes)
        if len(piece) > PIECE_BYTES or offset + len(piece) > upload.size_bytes:
            raise Invalid("/offset", "The piece is longer than what is to come.")
        write_piece(path_of(upload), offset, piece)
        upload.received_bytes, upload.last_at = offset + len(piece), now
        upload.save(update_fields=["received_bytes", "last_at"])
    _running.add(upload.pk, offset, piece)
    return upload


def sha256_of(upload: Upload) -> str:
    """The hash of a file that has come in whole: computed as it came, or, where another process had pieces of it,
    anew from the disk."""
    computed = _running.whole(upload.pk, upload.size_bytes)
    if computed is not None:
        return computed
    with path_of(upload).open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


class _Running:
    """Hashes of files on their way in, as far as all their pieces came to this process, in order."""

    MOST = 16

    def __init__(self) -> None:
        self._hashes: OrderedDict[object, tuple[int, hashlib._Hash]] = OrderedDict()
        self._lock = threading.Lock()

    def add(self, upload_id: object, offset: int, piece: bytes) -> None:
        with self._lock:
            so_far, computed = self._hashes.pop(upload_id, (0, hashlib.sha256()))
            if so_far != offset:
                return
            computed.update(piece)
            self._hashes[upload_id] = (offset + len(piece), computed)
            while len(self._hashes) > self.MOST:
                self._hashes.popitem(last=False)

    def whole(self, upload_id: object, size_bytes: int) -> str | None:
        with self._lock:
            so_far, computed = self._hashes.get(upload_id, (-1, None))
        return computed.hexdigest() if computed is not None and so_far == size_bytes else None

    def forget(self, upload_id: object) -> None:
        with self._lock:
            self._hashes.pop(upload_id, None)


_running = _Running()


def discard(upload: Upload) -> None:
    """Forget a file that is not wanted any more, and what is there of it."""
    _running.forget(upload.pk)
    path_of(upload).unlink(missing_ok=True)
    upload.delete()


def delete_stale_uploads(*, now: datetime) -> int:
    """Abandon the files of which nothing came for a day; how many."""
    old = list(Upload.objects.filter(last_at__lt=now - FORGOTTEN_AFTER))
    for upload in old:
        discard(upload)
    return len(old)
