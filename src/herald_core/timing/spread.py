"""Spread: devices begin one after another instead of all at the moment at which they may."""

import hashlib
from datetime import datetime, timedelta

#: a spread takes at most this much of the hours in which work may begin, so that the last ones have time too
MAX_WINDOW_SHARE = 0.5


def spread_position_of(key: str) -> float:
    """The place that belongs to a key, from 0 up to 1: always the same, level over many keys."""
    return int.from_bytes(hashlib.sha256(key.encode()).digest()[:6]) / 2**48


def share_due(spread: timedelta, *, begins: datetime, latest: datetime | None, now: datetime) -> float:
    """The places up to which devices may begin at `now`, 0 to 1.

    The spread starts at `begins`. Work may begin until `latest`; None for no such end.
    """
    length = _length(spread, begins, latest)
    return 1.0 if length <= timedelta(0) else min(1.0, max(0.0, (now - begins) / length))


def is_due_at(place: float, spread: timedelta, *, begins: datetime, latest: datetime | None) -> datetime:
    """When a device with this place in the spread may begin."""
    length = _length(spread, begins, latest)
    return begins + length * place


def _length(spread: timedelta, begins: datetime, latest: datetime | None) -> timedelta:
    length = spread if latest is None else min(spread, (latest - begins) * MAX_WINDOW_SHARE)
    return max(timedelta(0), length)
