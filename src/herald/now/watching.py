"""Watching the parts of the system, and sending what people are to hear of it.

Every clock and every web server runs a watcher, and one of them works: whoever has the lease, which passes on from one
that died or hangs. So a part that stops is noticed by another, and messages go out also when it was their sender that
stopped. What no watcher can do without is the database; when it is away, `herald.now.alarm` tells those whom a file
names.
"""

import threading
import time
import uuid
from datetime import UTC, datetime, timedelta

import structlog
from django.conf import settings
from django.db import close_old_connections, connection
from django.db.utils import InterfaceError, OperationalError

from herald.attention.models import Item, ItemKind
from herald.attention.services import close_item, open_item
from herald.clock.heartbeat import BEAT_SECONDS, beat
from herald.clock.lease import take_lease
from herald.http.outbound import FetchError, fetch
from herald.intervals import Intervals
from herald.notifications.announcing import escalate
from herald.notifications.sending import send_due
from herald.now.alarm import PATIENCE, Alarm
from herald.now.decisions import keep_decisions
from herald.now.troubles import Trouble, troubles
from herald.record.chain import link_new, send_out_head
from herald.samples.mailing import send_due_reports
from herald.time import clock

LOOK_SECONDS, DECISIONS_SECONDS, HEARTBEAT_SECONDS, CHAIN_SECONDS = 3.0, 9.0, 60.0, 1800.0
#: for how long whoever watches has the others stand by; longer than a look takes, but for a mail server that hangs
LEASE = timedelta(seconds=12)
#: as everything starts, no part has beaten yet; so long after its own start a watcher holds that against none
GRACE = timedelta(seconds=18)
log = structlog.get_logger()


def look(*, now: datetime, real_now: datetime) -> list[Trouble]:
    """Look at every part: open and close items, tell the next person, send what is due. What is wrong."""
    found = troubles(real_now=real_now)
    keep_troubles(found, now=now)
    escalate(now=now)
    while send_due(now=now, real_now=real_now):
        pass
    send_due_reports(now=now, real_now=real_now)
    return found


def keep_troubles(found: list[Trouble], *, now: datetime) -> None:
    """An item for each part that stopped; none for what is only late, nor for a silent fleet, which has its own."""
    stopped = {t.kind: t.text for t in found if not t.ready and not t.kind.endswith("-late")}
    for kind, text in stopped.items():
        open_item(ItemKind.STOPPED_PART, cause=text, object_kind=kind, now=now)
    for item in Item.objects.open().of_kinds([ItemKind.STOPPED_PART]):
        if item.object_kind not in stopped:
            close_item(ItemKind.STOPPED_PART, object_kind=item.object_kind, now=now)


class Watcher:
    """Looks every few seconds until `stop` is set, where nobody else does.

    A thread beside it only sees whether the database answers: a question to one that hangs never ends.
    """

    def __init__(self, stop: threading.Event, *, beats_as: str = "") -> None:
        self.stop = stop
        #: the name by which the process of this watcher beats, where nothing else of it does
        self._beats_as = beats_as
        self._alarm = Alarm(settings.DATA_DIR)
        self._name = uuid.uuid4().hex
        self._intervals = Intervals()
        self._began = time.monotonic()
        #: since when the database was asked and has not answered
        self._asked_at: float | None = None

    def run(self) -> None:
        """Watch until told to stop."""
        threading.Thread(target=self._watch_database, name="watch-database", daemon=True).start()
        while not self.stop.is_set():
            try:
                self._step()
            except (OperationalError, InterfaceError) as error:
                connection.close()
                log.warning("database_unreachable", loop="watch", error=str(error).strip())
            except Exception:
                log.exception("watch_failed")  # the next look tries again
            self.stop.wait(LOOK_SECONDS)
        connection.close()

    def _watch_database(self) -> None:
        while not self.stop.wait(LOOK_SECONDS):
            if self._asked_at is not None and time.monotonic() - self._asked_at > PATIENCE.total_seconds():
                self._alarm.database_away()

    def _step(self) -> None:
        leads = self._ask_database()
        self._alarm.database_answers()
        if not leads or time.monotonic() - self._began < GRACE.total_seconds():
            return
        self._keep_chain()
        if self._intervals.is_time("decisions", DECISIONS_SECONDS):
            keep_decisions(now=clock.now())
        found = look(now=clock.now(), real_now=datetime.now(UTC))
        if self._intervals.is_time("outside", HEARTBEAT_SECONDS):
            self._alarm.keep_recipients()
            self._call_out(found)

    def _keep_chain(self) -> None:
        """Link what was put on record since; once a day, let its newest hash leave the house."""
        everything = self._intervals.is_time("chain", CHAIN_SECONDS)
        while link_new(now=clock.now(), everything=everything):
            pass
        if everything:
            send_out_head(real_now=datetime.now(UTC))

    def _ask_database(self) -> bool:
        """Beat, and whether it is this one that watches."""
        self._asked_at = self._asked_at or time.monotonic()
        close_old_connections()
        if self._beats_as and self._intervals.is_time("beat", BEAT_SECONDS):
            beat(self._beats_as, now=clock.now())
        leads = take_lease("watch", self._name, LEASE)
        self._asked_at = None
        return leads

    def _call_out(self, found: list[Trouble]) -> None:
        """Tell somebody outside that all is well; silence tells them that it is not."""
        if not settings.HEARTBEAT_URL or any(not t.ready for t in found):
            return
        try:
            fetch(settings.HEARTBEAT_URL, most_bytes=64 * 1024, seconds=5)
        except FetchError as error:
            log.warning("heartbeat_not_taken", why=str(error))
