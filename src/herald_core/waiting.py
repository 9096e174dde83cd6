"""What a delivery waits for, and until when: the one answer that lists, pages, reports and forecasts go by.

The server chooses whom to offer to by SQL, which is quick for a hundred thousand devices; this says the same of one
device. A test holds the two together: a delivery is offered at the next turn if and only if it waits for nothing here.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from herald_core.deliveries import Kind, Phase
from herald_core.timing.clocks import is_zone
from herald_core.timing.spread import is_due_at
from herald_core.timing.windows import NEVER, Window, next_opening, opening_at


class WaitReason(StrEnum):
    """Why a delivery does not go on by itself this moment."""

    # in the server's hands
    PAUSED = "paused"
    HALTED = "halted"
    QUARANTINED = "quarantined"
    GATE = "gate"
    NOT_ADMITTED = "not-admitted"
    LATE_JOINER = "late-joiner"
    HELD = "held"
    TIME_OVER = "time-over"
    RUNS_ALREADY = "runs-already"
    NOT_BEGUN = "not-begun"
    RETRY = "retry"
    OUTRANKED = "outranked"
    BUSY = "busy"
    UNKNOWN_ZONE = "unknown-zone"
    WINDOW = "window"
    WINDOW_TOO_SHORT = "window-too-short"
    FREEZE = "freeze"
    FREEZE_NEAR = "freeze-near"
    SPREAD = "spread"
    UPLINK = "uplink"
    SITE_CAP = "site-cap"
    CAP = "cap"
    HOURLY_CAP = "hourly-cap"
    #: nothing keeps it: the next turn of the clock offers it
    TURN = "turn"
    # in the device's hands
    CHECK_IN = "check-in"
    FETCH = "fetch"
    PUT_OFF = "put-off"
    INSTALL = "install"
    CARRY_OUT = "carry-out"
    COME_BACK = "come-back"
    HEALTH = "health"


@dataclass(frozen=True, kw_only=True)
class Wait:
    """A reason, when it ends where that is known, and what it is about: a freeze, a rollout, a ring, a number."""

    reason: WaitReason
    until: datetime | None = None
    about: str = ""


@dataclass(frozen=True, kw_only=True)
class FreezeSpan:
    """Nothing disruptive begins on the device so that it would reach into [start, end)."""

    name: str
    start: datetime
    end: datetime


class Sending(StrEnum):
    """Whether what sends an order is at work."""

    RUNNING = "running"
    PAUSED = "paused"
    HALTED = "halted"
    QUARANTINED = "quarantined"


@dataclass(frozen=True, kw_only=True)
class WaitingOrder:
    """A delivery as far as its wait depends on it. `begins` is when devices of its ring may begin at the earliest;
    None while the ring is shut."""

    kind: Kind
    phase: Phase
    phase_since: datetime
    not_before: datetime
    not_after: datetime
    sending: Sending = Sending.RUNNING
    ring: int = 1
    begins: datetime | None = None
    needs: timedelta = timedelta(0)
    soak: timedelta = timedelta(0)
    fetch_only: bool = False
    has_file: bool = False
    after_failure: bool = False
    hold_reason: str = ""
    expedited: bool = False
    spread_position: float = 0.0
    #: whoever read its notice put the install off
    put_off: bool = False
    #: the device reports the wanted version in good health
    runs_already: bool = False
    window: Window | None = None
    spread: timedelta = timedelta(0)


@dataclass(frozen=True, kw_only=True)
class WaitingDevice:
    """The device as far as the wait depends on it. Numbers are how many more may begin there; None for no limit."""

    zone: str
    admitted: bool = True
    next_call: datetime | None = None
    busy: bool = False
    outranked_by: int | None = None
    freezes: Sequence[FreezeSpan] = ()
    uplink_left: int | None = None
    site_left: int | None = None


@dataclass(frozen=True, kw_only=True)
class Caps:
    """How many more devices may begin now, and the limits that say so."""

    left: int | None = None
    starts_left: int | None = None
    limit: int = 0
    starts_limit: int = 0


def why_waiting(order: WaitingOrder, device: WaitingDevice, caps: Caps, now: datetime) -> Wait | None:
    """What the delivery waits for at `now`; None for one that has ended."""
    match order.phase:
        case Phase.WAITING:
            return (
                _kept_by_sender(order)
                or _kept_by_state(order, device, now)
                or _kept_by_hours(order, device, now)
                or _kept_by_caps(order, device, caps)
                or Wait(reason=WaitReason.TURN)
            )
        case Phase.OFFERED:
            return Wait(reason=WaitReason.CHECK_IN, until=device.next_call)
        case Phase.STAGED if order.put_off:
            return Wait(reason=WaitReason.PUT_OFF)
        case Phase.ACCEPTED | Phase.FETCHING | Phase.STAGED:
            return Wait(reason=WaitReason.FETCH if order.kind is Kind.INSTALL else WaitReason.CARRY_OUT)
        case Phase.INSTALLING:
            return Wait(reason=WaitReason.INSTALL, until=order.phase_since + order.needs)
        case Phase.RUNNING:
            return Wait(reason=WaitReason.COME_BACK)
        case Phase.CONFIRMING:
            return Wait(reason=WaitReason.HEALTH, until=order.phase_since + order.soak)
    return None


def _kept_by_sender(order: WaitingOrder) -> Wait | None:
    if order.sending is not Sending.RUNNING:
        return Wait(reason=WaitReason(order.sending.value))
    if order.runs_already:
        return Wait(reason=WaitReason.RUNS_ALREADY)
    if order.begins is None and not order.expedited:
        return Wait(reason=WaitReason.GATE, about=str(order.ring))
    return None


def _kept_by_state(order: WaitingOrder, device: WaitingDevice, now: datetime) -> Wait | None:
    if not device.admitted:
        return Wait(reason=WaitReason.NOT_ADMITTED)
    if order.hold_reason:
        return Wait(reason=WaitReason.HELD, about=order.hold_reason)
    if order.not_after <= now:
        return Wait(reason=WaitReason.TIME_OVER)
    if order.not_before > now:
        return Wait(reason=WaitReason.RETRY if order.after_failure else WaitReason.NOT_BEGUN, until=order.not_before)
    if device.outranked_by is not None:
        return Wait(reason=WaitReason.OUTRANKED, about=str(device.outranked_by))
    if device.busy:
        return Wait(reason=WaitReason.BUSY)
    return None


def _kept_by_hours(order: WaitingOrder, device: WaitingDevice, now: datetime) -> Wait | None:
    """Windows, freezes and the spread. Commands have no window: their time is in `not_before`."""
    if order.kind is Kind.INSTALL and not is_zone(device.zone):
        return Wait(reason=WaitReason.UNKNOWN_ZONE)
    opening = opening_at(order.window, device.zone, now)
    if opening is None:
        return Wait(reason=WaitReason.WINDOW, until=_known(next_opening(order.window, device.zone, now)))
    opened, closes = opening
    latest = None if order.window is None else closes - order.needs
    if latest is not None and latest <= now:
        until = next_opening(order.window, device.zone, closes)
        return Wait(reason=WaitReason.WINDOW_TOO_SHORT, until=_known(until))
    for freeze in device.freezes:
        if freeze.start - order.needs <= now < freeze.end:
            near = freeze.start > now
            reason = WaitReason.FREEZE_NEAR if near else WaitReason.FREEZE
            return Wait(reason=reason, until=freeze.end, about=freeze.name)
    if order.begins is not None and not order.expedited:
        turn = is_due_at(order.spread_position, order.spread, begins=max(opened, order.begins), latest=latest)
        if turn > now:
            return Wait(reason=WaitReason.SPREAD, until=turn)
    return None


def _kept_by_caps(order: WaitingOrder, device: WaitingDevice, caps: Caps) -> Wait | None:
    if device.uplink_left is not None and device.uplink_left <= 0 and order.kind is Kind.INSTALL:
        return Wait(reason=WaitReason.UPLINK)
    if device.site_left is not None and device.site_left <= 0:
        return Wait(reason=WaitReason.SITE_CAP)
    if caps.left is not None and caps.left <= 0:
        return Wait(reason=WaitReason.CAP, about=str(caps.limit))
    if caps.starts_left is not None and caps.starts_left <= 0:
        return Wait(reason=WaitReason.HOURLY_CAP, about=str(caps.starts_limit))
    return None


def _known(moment: datetime) -> datetime | None:
    return None if moment == NEVER else moment
