"""Who of several processes does a thing now: whoever took the lease last, until it runs out.

Unlike a lock, which goes with a connection, it passes on from a process that hangs and keeps its connection open.
"""

from datetime import UTC, datetime, timedelta

from django.db import connection

_TAKE = """
INSERT INTO clock_lease (name, owner, ends_at) VALUES (%s, %s, %s)
ON CONFLICT (name) DO UPDATE SET owner = EXCLUDED.owner, ends_at = EXCLUDED.ends_at
WHERE clock_lease.owner = EXCLUDED.owner OR clock_lease.ends_at < %s
RETURNING 1
"""


def take_lease(name: str, owner: str, length: timedelta, *, real_now: datetime | None = None) -> bool:
    """Take or renew a lease for so long, in real time; whether it is the owner's now."""
    real = real_now or datetime.now(UTC)
    with connection.cursor() as cursor:
        cursor.execute(_TAKE, [name, owner, real + length, real])
        return cursor.fetchone() is not None
