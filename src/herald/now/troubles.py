"""What is wrong with the system itself: a clock that is late or stands still, jobs that wait, a silent fleet."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from django.db.models import QuerySet
from procrastinate.contrib.django.models import ProcrastinateJob

from herald.attention.models import Item, ItemKind
from herald.clock.heartbeat import AWAY, FOLLOW, GATEWAY, SERVER, TURN, heartbeats
from herald.clock.models import Heartbeat

#: a turn of the clock is to take less than a second; so long is late
LATE_SECONDS = 5.0
#: a job that waits for so long has no worker
JOB_WAITS = timedelta(seconds=60)


@dataclass(frozen=True, kw_only=True)
class Trouble:
    """One thing that is wrong. `since` is real time; `ready` says whether the system can do its work all the same."""

    kind: str
    text: str
    since: datetime | None
    ready: bool = False


_STOPPED = {
    TURN: "The clock stands still: nothing is offered, no gate opens and no command fires",
    FOLLOW: "Groups do not follow their devices",
    GATEWAY: "No gateway answers: devices cannot check in",
    SERVER: "No web server answers: nobody can look or act",
}
_NEVER = {
    TURN: "The clock has not been started: nothing is offered, no gate opens and no command fires",
    FOLLOW: "Groups do not follow their devices: the clock has not been started",
    GATEWAY: "No gateway has been started: devices cannot check in",
}
_KINDS = {TURN: "clock-stopped", FOLLOW: "groups-stopped", GATEWAY: "gateway-stopped", SERVER: "server-stopped"}
_LATE = {TURN: "The clock is late", FOLLOW: "Groups follow late"}


def troubles(*, real_now: datetime | None = None) -> list[Trouble]:
    """What is wrong, the worst first; empty while all is well."""
    real = real_now or datetime.now(UTC)
    known = heartbeats()
    found = [t for name in (TURN, GATEWAY, FOLLOW, SERVER) for t in _of_part(name, known.get(name), real)]
    return [*found, *_jobs(real), *_silence()]


def _of_part(name: str, heartbeat: Heartbeat | None, real: datetime) -> Iterator[Trouble]:
    if heartbeat is None and name in _NEVER:
        yield Trouble(kind=_KINDS[name], text=_NEVER[name], since=None)
    elif heartbeat is None:
        return
    elif heartbeat.beat_at < real - AWAY:
        yield Trouble(kind=_KINDS[name], text=_STOPPED[name], since=heartbeat.beat_at)
    elif name in _LATE and heartbeat.seconds > LATE_SECONDS:
        text = f"{_LATE[name]}: its last turn took {heartbeat.seconds:.0f} s"
        yield Trouble(kind=f"{name}-late", text=text, since=heartbeat.beat_at)


def waiting_jobs(real: datetime) -> "QuerySet[ProcrastinateJob]":
    """Jobs that a worker could take up now, and has not; none of those that only tidy up."""
    waiting = ProcrastinateJob.objects.filter(status="todo", procrastinateevent__type="deferred")
    return waiting.exclude(scheduled_at__gt=real).exclude(queue_name="housekeeping")


def _jobs(real: datetime) -> Iterator[Trouble]:
    """Jobs that no worker takes up. One that is to begin later, or repeats, is not waiting."""
    waiting = waiting_jobs(real).filter(procrastinateevent__at__lt=real - JOB_WAITS)
    oldest = waiting.order_by("procrastinateevent__at").values_list("procrastinateevent__at", flat=True).first()
    if oldest is not None:
        count = waiting.count()
        jobs = "1 job waits" if count == 1 else f"{count} jobs wait"
        yield Trouble(kind="jobs-wait", text=f"{jobs} for a worker: launches and imports stand still", since=oldest)


def _silence() -> Iterator[Trouble]:
    for item in Item.objects.open().of_kinds([ItemKind.FLEET_SILENT]):
        yield Trouble(kind="fleet-silent", text=item.cause, since=None, ready=True)
