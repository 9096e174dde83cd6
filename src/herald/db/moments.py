"""Moments of the database are read by the driver's own code.

Django reads a `timestamptz` in Python, to put the time zone of its settings in place of the connection's: about 6 µs a
moment, and a page of the calendar has tens of thousands. The driver's loader, made without a connection, always gives
UTC, which is what Django is set to here, in about a twentieth of that time.
"""

from datetime import UTC
from typing import Any

import psycopg
from psycopg.adapt import Buffer, Loader
from psycopg.pq import Format

NAME = "timestamptz"
_OID = psycopg.adapters.types[NAME].oid
_DRIVERS = psycopg.adapters.get_loader(_OID, Format.TEXT)


class MomentLoader(Loader):
    """Moments as text to aware datetimes of UTC. A moment that Python cannot hold is a `DataError`."""

    #: Django compares it with its own, and puts its loader back where they differ
    timezone = UTC

    def __init__(self, oid: int, context: Any = None) -> None:
        super().__init__(oid, context)
        assert _DRIVERS is not None
        # the driver calls what it finds here, with no step of Python between
        self.load = _DRIVERS(oid, None).load  # type: ignore[method-assign]

    def load(self, data: Buffer) -> Any:
        raise NotImplementedError("each loader has the driver's own")


def read_moments_fast(*, connection: Any, **_: Any) -> None:
    """A connection that was just made reads its moments so."""
    connection.connection.adapters.register_loader(NAME, MomentLoader)
