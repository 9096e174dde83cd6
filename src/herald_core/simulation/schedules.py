"""Simulated schedules: what the server's clock does at each turn with commands that repeat, on devices in memory.

It follows the same rules of firing, offering and expiring as the server, which does it by SQL; a test plays both on the
same devices and compares where each order ends.
"""

from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from herald_core.deliveries import ACTIVE, OPEN, RECALLABLE, Event, Phase, advance
from herald_core.timing.firings import LATE_FOR, Firing, firings, spread_seconds
from herald_core.timing.recurrence import Recurrence
from herald_core.timing.windows import DEVICE_CLOCK


@dataclass(frozen=True, kw_only=True)
class SimHold:
    """Devices, by their ids, that carry no command out in [start, end): a freeze, or an install of their own."""

    start: datetime
    end: datetime
    devices: frozenset[int]

    def holds(self, device: int, now: datetime) -> bool:
        return self.start <= now < self.end and device in self.devices


@dataclass(frozen=True, kw_only=True)
class SimSchedule:
    """A schedule's settings. `key` is what devices are spread by; `freezes` drop a firing where `drops_in_freeze`, and
    hold it otherwise."""

    key: str
    recurrence: Recurrence
    devices: frozenset[int]
    clock: str = DEVICE_CLOCK
    spread: timedelta = timedelta(0)
    expires_after: timedelta = timedelta(hours=2)
    runs_late: bool = False
    skips_overlap: bool = False
    drops_in_freeze: bool = False
    freezes: Sequence[SimHold] = ()
    max_concurrent: int = 500
    per_site: int | None = None


@dataclass(frozen=True, kw_only=True)
class Answer:
    """What a device does with an order: it takes it so long after the offer, and ends it so long after that; None
    where it never does. It fails where `fails`."""

    takes: timedelta | None
    runs: timedelta | None = timedelta(0)
    fails: bool = False


@dataclass(kw_only=True)
class SimOrder:
    """One device's part in one firing. `notes` are its changes: when, and to which phase."""

    schedule: int
    zone: str
    local: datetime
    device: int
    not_before: datetime
    not_after: datetime
    phase: Phase = Phase.WAITING
    since: datetime | None = None
    reason: str = ""
    notes: list[tuple[datetime, Phase]] = field(default_factory=list)

    def move(self, event: Event, now: datetime, reason: str = "") -> None:
        self.phase = advance(self.phase, event)
        self.since, self.reason = now, reason
        self.notes.append((now, self.phase))


@dataclass(frozen=True, kw_only=True)
class SimFiring:
    """A firing in one zone: for how many devices there is an order, and who got none and why."""

    schedule: int
    zone: str
    local: datetime
    at: datetime
    orders: int
    frozen: int
    overlapping: int


class SimSchedules:
    """Plays schedules turn by turn.

    Args:
        zones: the zone of each device, by its id, in which it stays.
        sites: the site of each device, likewise; a device without one is at none of the others'.
        answer: what a device does with the order of a schedule for a time of its rule.
        installs: when devices are at an install.
        silence: so long after it took an order a device is waited for.
    """

    def __init__(
        self,
        schedules: Sequence[SimSchedule],
        zones: Mapping[int, str],
        answer: Callable[[int, int, datetime], Answer],
        start: datetime,
        *,
        sites: Mapping[int, int] | None = None,
        installs: Sequence[SimHold] = (),
        silence: timedelta = timedelta(hours=4),
    ) -> None:
        self.schedules = schedules
        self.orders: list[SimOrder] = []
        self.firings: list[SimFiring] = []
        self._zones, self._sites, self._answer = zones, sites or {}, answer
        self._installs, self._silence = installs, silence
        self._open: list[list[SimOrder]] = [[] for _ in schedules]
        self._in_hand: set[int] = set()
        self._ahead = [
            {zone: _Ahead(s.recurrence, zone if s.clock == DEVICE_CLOCK else s.clock, start) for zone in found}
            for s, found in ((s, self._zones_of(s)) for s in schedules)
        ]

    def _zones_of(self, schedule: SimSchedule) -> list[str]:
        if schedule.clock != DEVICE_CLOCK:
            return ["*"]
        return sorted({self._zones[d] for d in schedule.devices})

    def turn(self, now: datetime) -> None:
        """One turn at `now`: fire what is due, offer what waits, and end what is over."""
        for index, schedule in enumerate(self.schedules):
            for zone, ahead in self._ahead[index].items():
                for firing in ahead.until(now):
                    self._fire(index, zone, firing, now)
            self._offer(index, schedule, now)
        self._expire(now)
        self._devices_act(now)

    def _fire(self, index: int, zone: str, firing: Firing, now: datetime) -> None:
        schedule = self.schedules[index]
        able = [d for d in sorted(schedule.devices) if zone in ("*", self._zones[d])]
        frozen = []
        if schedule.drops_in_freeze:
            frozen = [d for d in able if any(f.holds(d, firing.at) for f in schedule.freezes)]
            able = [d for d in able if d not in frozen]
        busy = self._make_room(index, able, now)
        devices = [d for d in able if not schedule.skips_overlap or d not in busy]
        not_after = firing.at + schedule.expires_after + (LATE_FOR if schedule.runs_late else timedelta(0))
        for device in devices:
            offset = timedelta(seconds=spread_seconds(schedule.key, f"{device}", schedule.spread))
            order = SimOrder(
                schedule=index,
                zone=zone,
                local=firing.local,
                device=device,
                not_before=firing.at + offset,
                not_after=not_after,
                since=now,
            )
            self.orders.append(order)
            if now >= not_after:
                order.phase, order.reason = Phase.EXPIRED, "the clock came too late"
            else:
                self._open[index].append(order)
        self.firings.append(
            SimFiring(
                schedule=index,
                zone=zone,
                local=firing.local,
                at=firing.at,
                orders=len(devices),
                frozen=len(frozen),
                overlapping=len(able) - len(devices),
            )
        )

    def _make_room(self, index: int, devices: Collection[int], now: datetime) -> set[int]:
        """Take back the firing before, where it has not begun; the devices that had one open."""
        wanted, busy = set(devices), set()
        for order in self._open[index]:
            if order.device in wanted:
                busy.add(order.device)
                if order.phase in (Phase.WAITING, Phase.OFFERED):
                    self._end(order, Event.SUPERSEDE, now, "the next firing took its place")
        return busy

    def _offer(self, index: int, schedule: SimSchedule, now: datetime) -> None:
        mine = self._open[index] = [o for o in self._open[index] if o.phase in OPEN]
        room = schedule.max_concurrent - sum(o.phase in ACTIVE for o in mine)
        at_site = Counter(self._sites.get(o.device) for o in mine if o.phase in ACTIVE)
        for order in mine:
            if room <= 0:
                return
            if not self._may_begin(order, schedule, now):
                continue
            site = self._sites.get(order.device)
            if schedule.per_site is not None and site is not None:
                if at_site[site] >= schedule.per_site:
                    continue
                at_site[site] += 1
            order.move(Event.OFFER, now)
            self._in_hand.add(order.device)
            room -= 1

    def _may_begin(self, order: SimOrder, schedule: SimSchedule, now: datetime) -> bool:
        held = (*schedule.freezes, *self._installs)
        return (
            order.phase is Phase.WAITING
            and order.not_before <= now < order.not_after
            and order.device not in self._in_hand
            and not any(h.holds(order.device, now) for h in held)
        )

    def _expire(self, now: datetime) -> None:
        for orders in self._open:
            for order in orders:
                if order.phase in RECALLABLE and order.not_after <= now:
                    self._end(order, Event.EXPIRE, now, "its time ran out")

    def _devices_act(self, now: datetime) -> None:
        for index, orders in enumerate(self._open):
            for order in orders:
                if order.phase in (Phase.OFFERED, Phase.RUNNING):
                    self._act(order, self._answer(index, order.device, order.local), now)

    def _act(self, order: SimOrder, answer: Answer, now: datetime) -> None:
        assert order.since is not None
        if order.phase is Phase.OFFERED and answer.takes is not None and now - order.since >= answer.takes:
            order.move(Event.RUN, now)
        elif order.phase is Phase.RUNNING and answer.runs is not None and now - order.since >= answer.runs:
            failed = "the device said that it failed"
            self._end(order, Event.FAIL if answer.fails else Event.CONFIRM, now, failed if answer.fails else "done")
        elif order.phase is Phase.RUNNING and now - order.since >= self._silence:
            self._end(order, Event.FAIL, now, "began, then was not heard of in time")

    def _end(self, order: SimOrder, event: Event, now: datetime, reason: str) -> None:
        if order.phase in ACTIVE:
            self._in_hand.discard(order.device)
        order.move(event, now, reason)


class _Ahead:
    """The firings of a rule in a zone that have not fired, soonest first."""

    def __init__(self, recurrence: Recurrence, zone: str, start: datetime) -> None:
        self._firings = firings(recurrence, zone, after=start)
        self._next = next(self._firings, None)

    def until(self, now: datetime) -> Iterator[Firing]:
        while self._next is not None and self._next.at <= now:
            yield self._next
            self._next = next(self._firings, None)
