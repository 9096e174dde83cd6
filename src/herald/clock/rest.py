"""When a turn of the clock can be passed over: nothing was told since the last one, and nothing is due.

Whoever changes something says so to browsers (`herald.live.notify`), and the clock listens to the same. What happens
by itself as time passes, and is not known ahead, is found when the longest rest is over.
"""

from datetime import datetime, timedelta

import psycopg
from django.db import connection

from herald.live.notify import CHANNEL

#: of the installation's time, so that a demo whose time runs fast rests no longer than one that lives at real speed
LONGEST_REST = timedelta(seconds=30)


class Rest:
    """Rests between turns. It hears what is told to the connection of its thread."""

    def __init__(self) -> None:
        self._rests: tuple[datetime, datetime] | None = None
        self._listens_on: object = None

    def is_over(self, now: datetime) -> bool:
        """Whether a turn is due at this moment. It stays over until the next one begins, so a turn that fails is
        followed by another."""
        if self._was_told() or (self._rests is not None and not self._rests[0] <= now < self._rests[1]):
            self._rests = None
        return self._rests is None

    def begin(self, now: datetime, until: datetime | None) -> None:
        """Rest after a turn at `now`, until something is told; at most until then. What the turn itself told counts
        too, so that it is followed by another one."""
        longest = now + LONGEST_REST
        self._rests = (now, longest if until is None else min(until, longest))

    def _was_told(self) -> bool:
        with connection.cursor() as cursor:  # which connects where there is no connection
            raw: psycopg.Connection = cursor.connection
            if raw is not self._listens_on:
                cursor.execute(f"LISTEN {CHANNEL}")
                self._listens_on = raw
                return True
        return bool(list(raw.notifies(timeout=0)))
