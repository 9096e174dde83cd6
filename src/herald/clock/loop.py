"""The clock process: what must happen when time passes, whether or not anybody looks.

Two loops, each in a thread with its own database connection: one turns rollouts and schedules every
second, the other keeps membership true a few times a second. An advisory lock lets several clock
processes run against one database; one of them works, the others stand by.
"""

import threading
import time
from collections.abc import Callable

import structlog
from django.db import close_old_connections, connection
from django.db.utils import InterfaceError, OperationalError

from herald.clock.models import TimeBase
from herald.clock.source import clock
from herald.commands.services import turn_schedules
from herald.deliveries import services as deliveries
from herald.groups.membership import follow_changes, refresh_time_groups
from herald.images.cleaning import purge
from herald.images.uploads import forget_old_uploads
from herald.rollouts.turn import turn_rollouts

TURN_SECONDS = 1.0
FOLLOW_SECONDS = 0.2
TIME_GROUPS_SECONDS = 60.0  # of real time
_LOCKS = {"turn": 7_301_002, "follow": 7_301_003}
log = structlog.get_logger()


def without_helpers() -> None:
    """Have this connection's queries run in one process each: they are short and many, and starting helpers for them
    takes longer than they take."""
    with connection.cursor() as cursor:
        cursor.execute("SET max_parallel_workers_per_gather = 0")


def turn() -> None:
    """One turn of the clock: expire, recall, then rollouts and schedules."""
    now = clock.now()
    deliveries.expire(now=now)
    deliveries.recall_lapsed(now=now)
    turn_rollouts(now=now)
    turn_schedules(now=now)
    TimeBase.objects.update(last_seen=now)


class _Follower:
    """Follows changed devices at once; every minute time-dependent groups, and uploads that nobody goes on with."""

    def __init__(self) -> None:
        self.refreshed = 0.0

    def __call__(self) -> None:
        while follow_changes(now=clock.now()):
            pass
        if time.monotonic() - self.refreshed >= TIME_GROUPS_SECONDS:
            refresh_time_groups(now=clock.now())
            forget_old_uploads(now=clock.now())
            purge(now=clock.now())
            self.refreshed = time.monotonic()


def run(stop: threading.Event) -> None:
    """Run both loops until `stop` is set."""
    threads = [
        threading.Thread(target=_loop, args=("turn", turn, TURN_SECONDS, stop), name="turn"),
        threading.Thread(target=_loop, args=("follow", _Follower(), FOLLOW_SECONDS, stop), name="follow"),
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()


def _loop(name: str, work: Callable[[], None], every: float, stop: threading.Event) -> None:
    leading = False
    while not stop.is_set():
        started = time.monotonic()
        try:
            close_old_connections()
            leading = leading and connection.connection is not None and not connection.connection.closed
            leading = leading or _lead(_LOCKS[name])
            if leading:
                work()
        except (OperationalError, InterfaceError) as error:
            leading = False
            connection.close()
            log.warning("database_unreachable", loop=name, error=str(error).strip())
        except Exception:
            # One rollout's trouble must not stop time for the others; the next turn tries again.
            log.exception("turn_failed", loop=name)
        stop.wait(max(0.02, every - (time.monotonic() - started)))
    connection.close()


def _lead(lock: int) -> bool:
    """Whether this process holds the loop's lock, which lasts as long as its connection."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_try_advisory_lock(%s)", [lock])
        leads = bool(cursor.fetchone()[0])
    if leads:
        without_helpers()
    return leads
