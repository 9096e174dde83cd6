"""Locks of the database, and the order in which they are taken.

Two transactions that take the same locks in different orders wait for each other for ever. So whoever needs several
takes them in this order, from the top:

1. `MEMBERSHIP`, before any membership, group or rule is written;
2. `RANKS`, before a rollout is given its rank;
3. rows of groups, rollouts, schedules, imports, edits, images: the one that the act is about, then others by their id;
4. rows of devices, by id, and never `FOR UPDATE` but `FOR NO KEY UPDATE`, which lets memberships refer to them;
5. rows of deliveries, by id.
"""

from collections.abc import Iterator
from contextlib import contextmanager

from django.db import connection

#: names among the advisory locks of the database
MEMBERSHIP = 7_301_001
TURN_LOOP = 7_301_002
FOLLOW_LOOP = 7_301_003
RANKS = 7_301_004
#: with an import's id: its file is read
IMPORT = 7_301_005
CHAIN = 7_301_007
COUNT_LOOP = 7_301_009
#: what is kept no longer is deleted
RETENTION = 7_301_008
#: taken by the trigger that keeps one administrator, and by nothing else
ADMINISTRATORS = 7_301_006


def take_lock(name: int) -> None:
    """Wait for an advisory lock, and hold it until the transaction ends."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock(%s)", [name])


@contextmanager
def held_by_me(name: int, object_id: int) -> Iterator[bool]:
    """Whether this connection alone works on an object now. Held until the block ends, or the connection: a worker that
    is only slow keeps it, and one that died does not."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_try_advisory_lock(%s, %s)", [name, object_id % 2**31])
        mine = bool(cursor.fetchone()[0])
    try:
        yield mine
    finally:
        if mine and not connection.needs_rollback:
            with connection.cursor() as cursor:
                cursor.execute("SELECT pg_advisory_unlock(%s, %s)", [name, object_id % 2**31])


def try_session_lock(name: int) -> bool:
    """Whether this connection holds an advisory lock now, which lasts as long as the connection."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_try_advisory_lock(%s)", [name])
        return bool(cursor.fetchone()[0])
