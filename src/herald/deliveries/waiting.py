"""What deliveries wait for, in words. Whoever sends orders of a kind says what is around them (`describes_waits`);
the reason itself is the core's (`herald_core.waiting`)."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from herald.deliveries.models import Delivery
from herald_core.deliveries import OPEN, Kind, Phase
from herald_core.waiting import Caps, Wait, WaitingDevice, WaitingOrder, WaitReason, why_waiting

Described = Mapping[int, tuple[WaitingOrder, WaitingDevice, Caps]]
#: Gives what is around open deliveries of one kind, by the id of the delivery.
Describer = Callable[[Sequence[Delivery], datetime], Described]
_DESCRIBERS: dict[str, Describer] = {}


def describes_waits(kind: Kind) -> Callable[[Describer], Describer]:
    """Let the room that sends orders of a kind say what is around them."""

    def register(describer: Describer) -> Describer:
        _DESCRIBERS[kind.value] = describer
        return describer

    return register


@dataclass(frozen=True, kw_only=True)
class WaitingFor:
    """A reason, by its code and in words that follow “waits for”, and when it ends if that is known."""

    code: str
    reason: str
    until: datetime | None = None


def waits_of(deliveries: Iterable[Delivery], now: datetime) -> dict[int, WaitingFor]:
    """What each delivery waits for, by its id; those that have ended are left out."""
    return {
        pk: WaitingFor(code=wait.reason.value, reason=in_words(wait, order), until=wait.until)
        for pk, wait, order in _waits(deliveries, now)
    }


def reasons_of(deliveries: Iterable[Delivery], now: datetime) -> dict[int, Wait]:
    """The same without words."""
    return {pk: wait for pk, wait, _ in _waits(deliveries, now)}


def _waits(deliveries: Iterable[Delivery], now: datetime) -> Iterator[tuple[int, Wait, WaitingOrder]]:
    by_kind: dict[str, list[Delivery]] = {}
    for delivery in deliveries:
        if Phase(delivery.phase) in OPEN:
            by_kind.setdefault(delivery.kind, []).append(delivery)
    for kind, rows in by_kind.items():
        for pk, (order, device, caps) in _DESCRIBERS[kind](rows, now).items():
            wait = why_waiting(order, device, caps, now)
            if wait is not None:
                yield pk, wait, order


def counted(n: int) -> str:
    """“8 devices”, “1 device”, “2,431 devices”."""
    return f"{n:,} device{'s' if n != 1 else ''}"


def wait_words(n: int) -> str:
    """That so many devices wait: “8 devices wait”, “1 device waits”."""
    return f"{counted(n)} wait{'s' if n == 1 else ''}"


def unheard_words(n: int) -> str:
    """That so many devices, which have an order or were offered it, are not heard from in time."""
    return f"{counted(n)} that {'was' if n == 1 else 'were'} offered it {'is' if n == 1 else 'are'} not heard from"


_WORDS: Mapping[WaitReason, str] = {
    WaitReason.PAUSED: "somebody to resume it: it is paused",
    WaitReason.HALTED: "a decision: the rollout halted itself",
    WaitReason.QUARANTINED: "the system to try again: work on it failed",
    WaitReason.GATE: "the gate before ring {about}",
    WaitReason.NOT_ADMITTED: "the device to be admitted",
    WaitReason.LATE_JOINER: "somebody to let late joiners in",
    WaitReason.HELD: "somebody to release it: {about}",
    WaitReason.TIME_OVER: "nothing: its time is over",
    WaitReason.RUNS_ALREADY: "the next look: it runs the version already",
    WaitReason.NOT_BEGUN: "its start",
    WaitReason.RETRY: "the pause after a failed attempt",
    WaitReason.OUTRANKED: "rollout {about}, which ranks higher",
    WaitReason.BUSY: "another order that the device works on",
    WaitReason.UNKNOWN_ZONE: "a time zone: the device’s is not known, so no hours hold",
    WaitReason.WINDOW: "its window",
    WaitReason.WINDOW_TOO_SHORT: "its next window: too little of this one is left",
    WaitReason.FREEZE: "the end of the freeze “{about}”",
    WaitReason.FREEZE_NEAR: "the end of the freeze “{about}”, which begins too soon",
    WaitReason.SPREAD: "its place in the spread of starts",
    WaitReason.UPLINK: "the site’s uplink, which carries all it can",
    WaitReason.SITE_CAP: "other devices at its site, which has a cap",
    WaitReason.CAP: "other devices: {about} at once is the cap",
    WaitReason.HOURLY_CAP: "the next hour: {about} starts per hour is the cap",
    WaitReason.TURN: "the system, which offers it within seconds",
    WaitReason.CHECK_IN: "its next check-in",
    WaitReason.FETCH: "the device to fetch the file",
    WaitReason.PUT_OFF: "whoever read its notice and put it off",
    WaitReason.INSTALL: "the install to end",
    WaitReason.CARRY_OUT: "the device to carry it out",
    WaitReason.COME_BACK: "the device to come back",
    WaitReason.HEALTH: "good health for as long as it soaks",
}


def in_words(wait: Wait, order: WaitingOrder | None = None) -> str:
    """The reason as it follows “waits for”, with what is particular to an order."""
    words = _WORDS[wait.reason].format(about=wait.about)
    if order is None:
        return words
    if order.fetch_only and wait.reason in (WaitReason.CHECK_IN, WaitReason.FETCH):
        return f"{words}, ahead of its window"
    if order.has_file and wait.reason in (WaitReason.WINDOW, WaitReason.WINDOW_TOO_SHORT):
        return f"{words}; its file is there"
    return words
