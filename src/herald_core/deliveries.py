"""The lifecycle of a delivery: one table of legal changes, and what a device's report does to it."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from enum import StrEnum

from herald_core.versions import version_key_or_none


class Phase(StrEnum):
    """Where a delivery stands."""

    WAITING = "waiting"
    OFFERED = "offered"
    ACCEPTED = "accepted"
    FETCHING = "fetching"
    STAGED = "staged"
    INSTALLING = "installing"
    RUNNING = "running"
    CONFIRMING = "confirming"
    CONFIRMED = "confirmed"
    FAILED = "failed"
    WITHDRAWN = "withdrawn"
    EXPIRED = "expired"
    SUPERSEDED = "superseded"


class Kind(StrEnum):
    """What a delivery carries."""

    INSTALL = "install"
    COMMAND = "command"


class Event(StrEnum):
    """What can happen to a delivery."""

    OFFER = "offer"
    RECALL = "recall"
    ACCEPT = "accept"
    FETCH = "fetch"
    STAGE = "stage"
    INSTALL = "install"
    RUN = "run"
    RETURN = "return"
    CONFIRM = "confirm"
    CONFIRM_LATE = "confirm_late"
    FIND_DONE = "find_done"
    RETRY = "retry"
    STORE_FILE = "keep"
    FAIL = "fail"
    WITHDRAW = "withdraw"
    EXPIRE = "expire"
    SUPERSEDE = "supersede"
    RETRY_MANUALLY = "again"
    READMIT = "rejoin"


#: Phases in which the order is in the device's hands, in the order in which they come.
ACTIVE = (
    Phase.OFFERED,
    Phase.ACCEPTED,
    Phase.FETCHING,
    Phase.STAGED,
    Phase.INSTALLING,
    Phase.RUNNING,
    Phase.CONFIRMING,
)
OPEN = (Phase.WAITING, *ACTIVE)
CLOSED = tuple(p for p in Phase if p not in OPEN)
#: Phases in which the device's uplink carries the file, or soon will.
FETCHES = (Phase.OFFERED, Phase.ACCEPTED, Phase.FETCHING)
#: Phases in which the server may still take the order back; later ones the device finishes.
RECALLABLE = (Phase.WAITING, Phase.OFFERED, Phase.ACCEPTED, Phase.FETCHING, Phase.STAGED)
#: Phases that the server never interrupts.
NOT_CANCELLABLE = (Phase.INSTALLING, Phase.RUNNING, Phase.CONFIRMING)

_PROGRESS: Mapping[Event, Phase] = {
    Event.ACCEPT: Phase.ACCEPTED,
    Event.FETCH: Phase.FETCHING,
    Event.STAGE: Phase.STAGED,
    Event.INSTALL: Phase.INSTALLING,
    Event.RUN: Phase.RUNNING,
    Event.RETURN: Phase.CONFIRMING,
}
#: Reports on the way may be lost, so a device's progress may skip phases but never go back.
_FORWARD = {
    (phase, event): to for event, to in _PROGRESS.items() for phase in ACTIVE if ACTIVE.index(phase) < ACTIVE.index(to)
}

TRANSITIONS: Mapping[tuple[Phase, Event], Phase] = {
    (Phase.WAITING, Event.OFFER): Phase.OFFERED,
    (Phase.OFFERED, Event.RECALL): Phase.WAITING,
    **_FORWARD,
    (Phase.CONFIRMING, Event.CONFIRM): Phase.CONFIRMED,
    (Phase.RUNNING, Event.CONFIRM): Phase.CONFIRMED,
    (Phase.WAITING, Event.FIND_DONE): Phase.CONFIRMED,
    # it ended otherwise, and the device proves well later
    **{(phase, Event.CONFIRM_LATE): Phase.CONFIRMED for phase in (Phase.FAILED, Phase.EXPIRED)},
    **{(phase, Event.RETRY): Phase.WAITING for phase in ACTIVE},
    **{(phase, Event.FAIL): Phase.FAILED for phase in OPEN},
    **{(phase, Event.WITHDRAW): Phase.WITHDRAWN for phase in RECALLABLE},
    **{(phase, Event.EXPIRE): Phase.EXPIRED for phase in RECALLABLE},
    **{(phase, Event.SUPERSEDE): Phase.SUPERSEDED for phase in RECALLABLE},
    # its file was fetched ahead; the device keeps it and waits for its hours
    (Phase.STAGED, Event.STORE_FILE): Phase.WAITING,
    # it was withdrawn as its device left the audience, and the device is in it again
    (Phase.WITHDRAWN, Event.READMIT): Phase.WAITING,
    # a person gives it another attempt
    **{(phase, Event.RETRY_MANUALLY): Phase.WAITING for phase in (Phase.FAILED, Phase.EXPIRED)},
}


class InvalidTransition(Exception):
    """The delivery is not in a phase from which this can happen."""

    def __init__(self, phase: Phase, event: Event) -> None:
        super().__init__(f"a delivery that is {phase} cannot {event}")
        self.phase = phase
        self.event = event


def advance(phase: Phase, event: Event) -> Phase:
    """The phase after `event`.

    Raises:
        InvalidTransition: the table has no such change.
    """
    try:
        return TRANSITIONS[phase, event]
    except KeyError:
        raise InvalidTransition(phase, event) from None


def sources(event: Event) -> tuple[Phase, ...]:
    """The phases from which the event can happen."""
    return tuple(phase for phase, e in TRANSITIONS if e is event)


class Cause(StrEnum):
    """Causes of a change that are asked for later. The others are shown once and are words, or words of a device."""

    FILE_STORED = "file-stored"  # an active order goes back to waiting although nothing failed
    LEFT_AUDIENCE = "left-audience"  # the device may come back, and then goes on
    NOTICE_SHOWN = "notice-shown"  # its phase stays as it is, here and in the next
    DEFERRED = "deferred"


CAUSE_WORDS: Mapping[str, str] = {
    Cause.FILE_STORED: "keeps the file for its hours",
    Cause.LEFT_AUDIENCE: "left the audience",
    Cause.NOTICE_SHOWN: "the device showed the notice",
    Cause.DEFERRED: "whoever stands before it put it off",
}
#: Causes that say nothing against the image: the order is given again and no attempt is counted.
NOT_COUNTED = frozenset({"too-late", "recalled", "not-fetched", Cause.DEFERRED.value})
#: The counter of an order of which nothing was reported yet; the first report may count from zero.
NO_COUNTER = -1
#: Causes that another attempt would only meet again.
NOT_RETRYABLE = frozenset({"no-space"})
#: Causes that chance explains: the next attempt needs no pause.
RETRY_IMMEDIATELY = frozenset({"bad-hash"})
MAX_RETRY_PAUSE = timedelta(hours=6)
#: So long a device may say nothing of what it began: so many times the image's minutes, no sooner than this, and no
#: sooner than after so many missed check-ins.
TIMEOUT_FACTOR, PATIENCE_FLOOR, PATIENCE_CHECK_INS = 4, timedelta(hours=1), 3
#: One that is heard of, but says nothing of the install that it began, is given up after so many patiences.
MUTE_FACTOR = 4


def patience(minutes: float, interval: timedelta) -> timedelta:
    """How long a device may say nothing of an install of so many minutes, with its pause between check-ins."""
    return max(PATIENCE_FLOOR, timedelta(minutes=minutes) * TIMEOUT_FACTOR, interval * PATIENCE_CHECK_INS)


@dataclass(frozen=True, kw_only=True)
class Report:
    """What a device says about its order. `counter` only grows within one `boot` of the device, where it names its
    boots; `error` is a word, empty for none."""

    attempt: int
    counter: int
    phase: str
    progress: int = 0
    error: str = ""
    error_text: str = ""
    results: Mapping[str, object] = field(default_factory=dict)
    boot: str = ""
    #: the notice stands before somebody now, or that person has just put the install off
    notice_shown: bool = False
    deferred: bool = False


@dataclass(frozen=True, kw_only=True)
class ActiveOrder:
    """A delivery in a device's hands, as far as its next step depends on it. `counter` and `boot` are those of the
    last report that was taken."""

    kind: Kind
    phase: Phase
    attempt: int
    max_attempts: int
    counter: int = NO_COUNTER
    boot: str = ""
    #: only the file was asked for; the install comes as an order of its own
    fetch_only: bool = False
    target_version: str = ""
    soak: timedelta = timedelta(0)
    phase_since: datetime | None = None


@dataclass(frozen=True, kw_only=True)
class Step:
    """One change of phase and why; `detail` is for people."""

    event: Event
    to: Phase
    cause: str
    detail: str = ""


@dataclass(frozen=True, kw_only=True)
class Deferral:
    """How far whoever stands before a device may put its install off: so many times, until a moment, or as far as both
    allow; not at all where neither is given."""

    times: int | None = None
    until: datetime | None = None

    def allows(self, deferred: int, now: datetime) -> bool:
        """Whether it may be put off once more, after so many times."""
        if self.times is None and self.until is None:
            return False
        return (self.times is None or deferred < self.times) and (self.until is None or now < self.until)


_REPORTED: Mapping[str, Event] = {
    "accepted": Event.ACCEPT,
    "fetching": Event.FETCH,
    "staged": Event.STAGE,
    "installing": Event.INSTALL,
    "running": Event.RUN,
    "confirming": Event.RETURN,
}
REPORTABLE = (*_REPORTED, "done", "failed")


def is_stale(order: ActiveOrder, report: Report) -> bool:
    """Whether the report is a repeat, late, or about another attempt, and so changes nothing."""
    restarted = report.boot not in ("", order.boot)
    return report.attempt != order.attempt or (report.counter <= order.counter and not restarted)


def steps_of_report(order: ActiveOrder, report: Report) -> list[Step]:
    """What a report does to the order it is about; nothing where it is stale or says nothing new."""
    if is_stale(order, report):
        return []
    if report.phase == "failed":
        return [failure(order, report.error or "unspecified", report.error_text)]
    if report.phase == "done":
        if order.kind is not Kind.COMMAND:
            return []  # an install is confirmed by the version reported, never by the device's word
        running = _forward(order.phase, Event.RUN, "reported done")
        after = running[-1].to if running else order.phase
        return [*running, Step(event=Event.CONFIRM, to=advance(after, Event.CONFIRM), cause="reported done")]
    event = _REPORTED.get(report.phase)
    if event is None or (order.kind is Kind.COMMAND and event not in (Event.ACCEPT, Event.RUN)):
        return []
    steps = _forward(order.phase, event, f"reported {report.phase}")
    if event is Event.STAGE and order.fetch_only and steps:
        keep = advance(Phase.STAGED, Event.STORE_FILE)
        steps.append(Step(event=Event.STORE_FILE, to=keep, cause=Cause.FILE_STORED))
    return steps


def steps_of_state(order: ActiveOrder, *, firmware: str | None, healthy: bool, now: datetime) -> list[Step]:
    """What the version and health that a device reports do to an install in its hands.

    Only this confirms an install: the wanted version, good health, and the image's soak passed since
    the device came back. It does so from any phase in which the order is active, for reports may be lost on the
    way. A device that says it came back and runs another version has failed.
    """
    if order.kind is not Kind.INSTALL or order.phase not in ACTIVE:
        return []
    key = version_key_or_none(firmware)
    if key is None or key != version_key_or_none(order.target_version):
        if order.phase is not Phase.CONFIRMING:
            return []  # still at it
        return [failure(order, "wrong-version", f"came back on {firmware or 'no version'}")]
    steps, since = [], order.phase_since or now
    if order.phase is not Phase.CONFIRMING:
        if not healthy and order.phase in RECALLABLE:
            return []  # it ran the version before, not well, and is to install it anew
        steps, since = _forward(order.phase, Event.RETURN, "came back on the wanted version"), now
    if not healthy:
        if now - since < order.soak:
            return steps
        return [*steps, failure(order, "unhealthy", "on the wanted version, but reports a fault")]
    if now - since >= order.soak:
        cause = f"reports {firmware} and good health"
        steps.append(Step(event=Event.CONFIRM, to=advance(Phase.CONFIRMING, Event.CONFIRM), cause=cause))
    return steps


def failure(order: ActiveOrder, cause: str, detail: str = "") -> Step:
    """The end of an attempt: another one after a pause, or failed after the last, or where trying is hopeless."""
    if cause in NOT_COUNTED or (order.attempt < order.max_attempts and cause not in NOT_RETRYABLE):
        return Step(event=Event.RETRY, to=advance(order.phase, Event.RETRY), cause=cause, detail=detail)
    return Step(event=Event.FAIL, to=advance(order.phase, Event.FAIL), cause=cause, detail=detail)


def retry_pause(first: timedelta, attempt: int, cause: str = "") -> timedelta:
    """How long to wait after a failed attempt (counted from 1): doubling, at most six hours; some causes none."""
    if cause in RETRY_IMMEDIATELY:
        return timedelta(0)
    return min(MAX_RETRY_PAUSE, first * int(2 ** min(attempt - 1, 10)))


def _forward(phase: Phase, event: Event, cause: str) -> list[Step]:
    to = TRANSITIONS.get((phase, event))
    return [Step(event=event, to=to, cause=cause)] if to else []
