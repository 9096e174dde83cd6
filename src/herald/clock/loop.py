"""The clock process: what must happen when time passes, whether or not anybody looks.

Three loops, each in a thread with its own database connection: one turns rollouts and schedules, every second while
something happens and now and then while nothing does; one keeps membership true a few times a second; one counts what
the calendar tells of. A fourth thread watches the parts of the system (`now.watching`). Advisory locks let several
clock processes run against one database; one of them works, the others stand by.
"""

import threading
import time
from collections.abc import Callable
from datetime import datetime, timedelta

import structlog
from django.db import close_old_connections, connection
from django.db.utils import InterfaceError, OperationalError

from herald.agenda.keeping import keep_counts
from herald.attention.quarantine import Isolation
from herald.catalog.facts import find_facts
from herald.clock.conditions import refresh_conditions
from herald.clock.heartbeat import BEAT_SECONDS, COUNT, FOLLOW, TURN, beat
from herald.clock.models import TimeBase
from herald.clock.rest import Rest
from herald.commands.misses import note_misses
from herald.commands.outputs import delete_old
from herald.commands.tallies import tally_ended
from herald.commands.turn import turn_schedules
from herald.db.locks import COUNT_LOOP, FOLLOW_LOOP, TURN_LOOP, try_session_lock
from herald.deliveries import services as deliveries
from herald.fleet.models import MembershipQueueEntry
from herald.groups.membership import process_changed_devices, refresh_time_groups
from herald.images.cleanup import purge
from herald.images.uploads import delete_stale_uploads
from herald.intervals import Intervals
from herald.now.watching import Watcher
from herald.rollouts.engine.reconcile import reconcile
from herald.rollouts.engine.tick import tick_rollouts
from herald.samples.services import keep_samples
from herald.time import clock

TURN_SECONDS = 1.0
#: while devices change, and when none has for a while
FOLLOW_SECONDS, QUIET_SECONDS = 0.2, 0.6
QUIET_AFTER_SECONDS = 5.0
TIME_GROUPS_SECONDS = 60.0  # of real time
FACTS_SECONDS = 10.0  # of real time
#: counting that failed, which may have taken long, is tried again after so long
COUNT_AGAIN_SECONDS = 60.0
#: what devices show is looked at so often, of the installation's time, but not more often than this in real time
FLEET_EVERY = timedelta(minutes=1)
FLEET_SECONDS = 10.0
#: an hour's sample is looked for so often in real time, and four times an hour
SAMPLE_SECONDS, HOUR = 15.0, timedelta(hours=1)
_LOCKS = {TURN: TURN_LOOP, FOLLOW: FOLLOW_LOOP, COUNT: COUNT_LOOP}
#: batches of changed devices that one pass follows at most
MOST_BATCHES = 200
log = structlog.get_logger()


def without_helpers() -> None:
    """Have this connection's queries run in one process each: they are short and many, and starting helpers for them
    takes longer than they take."""
    with connection.cursor() as cursor:
        cursor.execute("SET max_parallel_workers_per_gather = 0")


def turn(now: datetime) -> datetime | None:
    """One turn of the clock: expire, recall, then rollouts and schedules. When the next one must be, as far as this
    one knows; None where nothing is known to be due."""
    isolation = Isolation(now)
    deliveries.expire(now=now, isolation=isolation)
    deliveries.recall_lapsed(now=now, isolation=isolation)
    is_done = tick_rollouts(now=now, isolation=isolation)
    next_firing = turn_schedules(now=now, isolation=isolation)
    isolation.finish()
    return next_firing if is_done and not isolation.put_off else now


class _Turner:
    """Turns when something was told or is due."""

    def __init__(self) -> None:
        self._rest = Rest()

    def __call__(self) -> float:
        now = clock.now()
        if self._rest.is_over(now):
            self._rest.begin(now, turn(now))
        TimeBase.objects.update(last_seen=now)
        return TURN_SECONDS


class _MembershipWorker:
    """Follows changed devices at once; a few times a minute facts that nobody defined; every minute time-dependent
    groups, uploads that nobody goes on with, and the conditions that open and close attention items."""

    def __init__(self) -> None:
        self._intervals = Intervals()
        self._changed = float("-inf")

    def __call__(self) -> float:
        # as many batches as there may be: devices that failed keep their marks, and must not be taken up for ever
        for _ in range(MOST_BATCHES):
            if not MembershipQueueEntry.objects.exists() or not process_changed_devices(now=clock.now()):
                break
            self._changed = time.monotonic()
        now = clock.now()
        if self._intervals.is_time("facts", FACTS_SECONDS):
            find_facts(now=now)
        if self._intervals.is_time("fleet", max(FLEET_SECONDS, FLEET_EVERY.total_seconds() / clock.speed)):
            refresh_conditions(now=now)
            note_misses(now=now)
            tally_ended(now=now)
            reconcile(now=now)
        if self._intervals.is_time("minute", TIME_GROUPS_SECONDS):
            refresh_time_groups(now=now)
            delete_stale_uploads(now=now)
            delete_old(now=now)
            purge(now=now)
        if self._intervals.is_time("samples", max(SAMPLE_SECONDS, HOUR.total_seconds() / 4 / clock.speed)):
            keep_samples(now=now)
        is_quiet = time.monotonic() - self._changed > QUIET_AFTER_SECONDS
        return QUIET_SECONDS if is_quiet else FOLLOW_SECONDS


class _Counter:
    """Counts what the calendar tells of, and rests (`keep_counts` says for how long)."""

    def __init__(self) -> None:
        self._next = float("-inf")

    def __call__(self) -> float:
        if time.monotonic() >= self._next:
            self._next = time.monotonic() + COUNT_AGAIN_SECONDS
            self._next = keep_counts(now=clock.now()) + time.monotonic()
        return BEAT_SECONDS


def run(stop: threading.Event) -> None:
    """Run the loops until `stop` is set."""
    threads = [
        threading.Thread(target=_loop, args=(TURN, _Turner(), stop), name="turn"),
        threading.Thread(target=_loop, args=(FOLLOW, _MembershipWorker(), stop), name="follow"),
        threading.Thread(target=_loop, args=(COUNT, _Counter(), stop), name="count"),
        threading.Thread(target=Watcher(stop).run, name="watch"),
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()


def _loop(name: str, work: Callable[[], float], stop: threading.Event) -> None:
    """Work again and again; what `work` returns is how long after its begin it is to begin anew."""
    took, every = 0.0, TURN_SECONDS
    leading, beaten = False, float("-inf")
    while not stop.is_set():
        started = time.monotonic()
        try:
            close_old_connections()
            leading = leading and connection.connection is not None and not connection.connection.closed
            leading = leading or _acquire_leadership(_LOCKS[name])
            if leading:
                if started - beaten >= BEAT_SECONDS:  # before the work, which a gap must not be held against
                    beat(name, now=clock.now(), seconds=took)
                    beaten = started
                every = work()
                took = time.monotonic() - started
        except (OperationalError, InterfaceError) as error:
            leading = False
            connection.close()
            log.warning("database_unreachable", loop=name, error=str(error).strip())
        except Exception:
            # What is not about one object: the next turn tries again, and the missing beats show on Now.
            log.exception("turn_failed", loop=name)
        stop.wait(max(0.02, every - (time.monotonic() - started)))
    connection.close()


def _acquire_leadership(lock: int) -> bool:
    """Whether this process holds the loop's lock, which lasts as long as its connection."""
    leads = try_session_lock(lock)
    if leads:
        without_helpers()
    return leads
