"""Work on many objects, of which none may stop the others.

Each object's work is a transaction of its own. Where it fails it is rolled back, the object is put in quarantine
(an item on Now, an entry in the record), and it is tried again after a pause that doubles.
"""

import traceback
from collections.abc import Callable, Iterable, Sequence
from datetime import datetime, timedelta
from functools import partial
from typing import TypeVar

import structlog
from django.db import connection, transaction
from django.db.utils import InterfaceError, OperationalError

from herald.attention.models import ItemKind, Part, Quarantine
from herald.attention.names import words_for
from herald.attention.services import close_item, open_item
from herald.http.errors import DomainError, NotFound
from herald.live.notify import notify
from herald.passing import is_passing
from herald.people.models import User
from herald.record.services import record

FIRST_PAUSE = timedelta(minutes=1)
LONGEST_PAUSE = timedelta(hours=1)
_TRACE_CHARACTERS = 2000
T = TypeVar("T")
log = structlog.get_logger()


class Isolation:
    """What is in quarantine at one turn, and the way to work on objects one by one. Made anew for each turn, which
    ends with `finish`: an object may be worked on in several steps of it."""

    def __init__(self, now: datetime) -> None:
        self.now = now
        self._known = {(q.part, q.object_id): q for q in Quarantine.objects.all()}
        self._worked: set[tuple[str, int]] = set()
        self._failed: set[tuple[str, int]] = set()
        #: whether something is to be tried again at the very next turn
        self.put_off = False

    def is_held(self, part: Part, object_id: int) -> bool:
        """Whether the object is to be left alone at this turn."""
        known = self._known.get((part.value, object_id))
        return known is not None and known.retry_at > self.now

    def held(self, part: Part) -> list[int]:
        """The objects of a kind that are to be left alone at this turn."""
        return [q.object_id for q in self._known.values() if q.part == part and q.retry_at > self.now]

    def known(self, part: Part) -> frozenset[int]:
        """The objects of a kind that failed before, whether or not they are to be left alone now."""
        return frozenset(q.object_id for q in self._known.values() if q.part == part)

    def run(self, part: Part, object_id: int, work: Callable[[], T]) -> T | None:
        """Do the work on one object; None where it is in quarantine, or failed now.

        Raises:
            OperationalError, InterfaceError: the database itself is away.
        """
        if self.is_held(part, object_id):
            return None
        try:
            with transaction.atomic():
                result = work()
        except Exception as error:
            _raise_if_database_is_away(error)
            if is_passing(error):  # the next turn tries again
                self.put_off = True
                log.warning("work_put_off", part=part.value, object_id=object_id, error=first_line(error))
            else:
                self._put(part, object_id, error)
            return None
        self._worked.add((part.value, object_id))
        return result

    def finish(self) -> None:
        """End the turn: what failed before, and was worked on in this turn without failing, leaves quarantine."""
        for part, object_id in sorted(self._worked & set(self._known) - self._failed):
            self._release(Part(part), object_id)

    def run_batch(self, part: Part, ids: Iterable[int], work: Callable[[Sequence[int]], object]) -> None:
        """Do the work on many objects at once; where it fails, on halves of them, down to the one that fails.

        Those that failed before are tried by themselves.
        """
        ready = [i for i in ids if not self.is_held(part, i)]
        doubtful = [i for i in ready if (part.value, i) in self._known]
        self._halve(part, [i for i in ready if (part.value, i) not in self._known], work)
        for one in doubtful:
            self.run(part, one, partial(work, [one]))

    def _halve(self, part: Part, ids: Sequence[int], work: Callable[[Sequence[int]], object]) -> None:
        if len(ids) <= 1:
            for one in ids:
                self.run(part, one, lambda: work(ids))
            return
        try:
            with transaction.atomic():
                work(ids)
        except Exception as error:
            _raise_if_database_is_away(error)
            if is_passing(error):  # the next turn tries again
                self.put_off = True
                log.warning("work_put_off", part=part.value, objects=len(ids), error=first_line(error))
                return
            middle = len(ids) // 2
            self._halve(part, ids[:middle], work)
            self._halve(part, ids[middle:], work)

    def put(self, part: Part, object_id: int, error: Exception) -> None:
        """Put an object in quarantine, as work that concerned it alone failed."""
        if not self.is_held(part, object_id):
            self._put(part, object_id, error)

    def _put(self, part: Part, object_id: int, error: Exception) -> None:
        cause = first_line(error)
        log.error("quarantined", part=part.value, object_id=object_id, error=cause, exc_info=error)
        with transaction.atomic():
            known = Quarantine.objects.select_for_update().of_object(part, object_id).first()
            failures = known.failures + 1 if known else 1
            pause = min(LONGEST_PAUSE, FIRST_PAUSE * 2 ** min(failures - 1, 10))
            fields = {
                "cause": cause,
                "trace": "".join(traceback.format_exception(error))[-_TRACE_CHARACTERS:],
                "failures": failures,
                "retry_at": self.now + pause,
            }
            row, _ = Quarantine.objects.update_or_create(
                part=part, object_id=object_id, defaults=fields, create_defaults={**fields, "since": self.now}
            )
            open_item(
                ItemKind.QUARANTINED, object_kind=part, object_id=object_id, cause=_words(part, row), now=self.now
            )
            if known is None:
                sentence = f"{words_for(part, object_id)} was put in quarantine: {cause}"
                record(now=self.now, actor=None, kind=part, object_id=object_id, sentence=sentence)
        self._known[part.value, object_id] = row
        self._failed.add((part.value, object_id))

    def _release(self, part: Part, object_id: int) -> None:
        known = self._known.pop((part.value, object_id))
        with transaction.atomic():
            Quarantine.objects.of_object(part, object_id).delete()
            close_item(ItemKind.QUARANTINED, object_kind=part, object_id=object_id, now=self.now)
            sentence = f"{words_for(Part(part), object_id)} left quarantine after {known.failures} failed tries"
            record(now=self.now, actor=None, kind=part, object_id=object_id, sentence=sentence)


def try_now(quarantine_id: int, *, actor: User | None, now: datetime) -> None:
    """Let an object be tried at the next turn of the clock, whatever is left of its pause.

    Raises:
        NotFound: nothing with this id is in quarantine.
    """
    with transaction.atomic():
        row = Quarantine.objects.select_for_update().filter(pk=quarantine_id).first()
        if row is None:
            raise NotFound("This is no longer in quarantine.")
        row.retry_at = min(row.retry_at, now)
        row.save(update_fields=["retry_at"])
        what = words_for(Part(row.part), row.object_id)
        sentence = f"Had {what[0].lower()}{what[1:]} tried again out of quarantine"
        record(now=now, actor=actor, kind=row.part, object_id=row.object_id, sentence=sentence)
        notify("attention")


def forget(part: Part, object_id: int, *, now: datetime) -> None:
    """Take an object out of quarantine that is no longer worked on."""
    Quarantine.objects.of_object(part, object_id).delete()
    close_item(ItemKind.QUARANTINED, object_kind=part, object_id=object_id, now=now)


def _words(part: Part, row: Quarantine) -> str:
    return f"{words_for(part, row.object_id)} is paused by the system, as work on it fails: {row.cause}"


def first_line(error: Exception) -> str:
    """An error in one line, for people: what a refusal says, or the kind of the error and its first line."""
    if isinstance(error, DomainError):
        return error.detail[:200]
    text = str(error).strip().split("\n")[0][:200]
    return f"{type(error).__name__}: {text}" if text else type(error).__name__


def _raise_if_database_is_away(error: Exception) -> None:
    """Raise the error again where the connection is gone: that is no object's fault."""
    if isinstance(error, OperationalError | InterfaceError):
        raw = connection.connection
        if raw is None or raw.closed or raw.broken:
            raise error
