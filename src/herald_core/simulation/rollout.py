"""One simulated rollout: what the server's clock does at each turn, on devices in memory.

It follows the same table of phases, windows, gates and halting rule as the server, which offers by SQL; a test plays
both on the same devices and compares where each device ends.
"""

import heapq
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import reduce
from operator import add

import numpy as np

from herald_core.capacity import Caps
from herald_core.deliveries import (
    ACTIVE,
    FETCHES,
    MUTE_FACTOR,
    NOT_COUNTED,
    OPEN,
    RECALLABLE,
    ActiveOrder,
    Event,
    Kind,
    Phase,
    Step,
    advance,
    failure,
    patience,
    retry_pause,
)
from herald_core.rings.gates import GateSpec, RingCounts, halt_reason, read_gate
from herald_core.simulation.fleet import Behaviour, SimDevice
from herald_core.simulation.order import Columns, Due, Hours, Indices, Opening, Room, openings_for_files
from herald_core.timing.spread import share_due
from herald_core.timing.windows import Window

FIRST_RETRY_PAUSE = timedelta(minutes=10)
NO_WINDOW = timedelta(days=30)


@dataclass(frozen=True, kw_only=True)
class SimFreeze:
    """Nothing is installed in [start, end); on marked devices only, unless it holds everywhere."""

    start: datetime
    end: datetime
    everywhere: bool = True


@dataclass(frozen=True, kw_only=True)
class SimPlan:
    """A rollout's settings. `acts` are what people do, at moments: pause, resume, approve."""

    rings: Sequence[GateSpec]
    window: Window | None = None
    #: files are fetched ahead of the window: at any hour, or in hours of their own
    prefetch: bool = False
    staging: Window | None = None
    freezes: Sequence[SimFreeze] = ()
    caps: Caps = field(default_factory=Caps)
    #: so long devices begin one after another
    spread: timedelta = timedelta(0)
    max_attempts: int = 2
    minutes: int = 10
    soak: timedelta = timedelta(0)
    failure_limit: float = 0.02
    count_limit: int | None = None
    give_up: timedelta = timedelta(days=14)
    acts: Sequence[tuple[datetime, str]] = ()


@dataclass
class SimDelivery:
    """A device's order while it is played through."""

    device: SimDevice
    phase: Phase = Phase.WAITING
    since: datetime | None = None
    attempt: int = 1
    max_attempts: int = 1
    offer_until: datetime | None = None
    fetch_only: bool = False
    confirmed_at: datetime | None = None
    #: counts changes, so that what was planned for an earlier one is passed over
    stamp: int = 0


@dataclass
class Outcome:
    """How a simulated rollout went. `confirmed` holds the moments of confirmation in order."""

    phases: dict[int, Phase]
    state: str
    ended_at: datetime | None
    reason: str = ""
    confirmed: list[datetime] = field(default_factory=list)
    opened: list[datetime | None] = field(default_factory=list)
    failed: int = 0
    turns: int = 0


class SimRollout:
    """Plays a rollout turn by turn. `watch` is called with each turn's moment, before the turn."""

    def __init__(
        self, plan: SimPlan, devices: Sequence[SimDevice], behaviour: Behaviour, start: datetime, turn: timedelta
    ) -> None:
        self.plan = plan
        self.start = start
        self.turn_length = turn
        self.behaviour = behaviour
        self.state = "running"
        self.reason = ""
        self.accepted_failures = 0
        self.ended_at: datetime | None = None
        self.deliveries = [SimDelivery(device=d, since=start, max_attempts=plan.max_attempts) for d in devices]
        self.opened: list[datetime | None] = [None] * len(plan.rings)
        self.met: list[datetime | None] = [None] * len(plan.rings)
        self.reached: list[datetime | None] = [None] * len(plan.rings)
        self.approved: set[int] = set()
        self.counts: list[Counter[Phase]] = [Counter() for _ in plan.rings]
        for delivery in self.deliveries:
            self.counts[delivery.device.ring][Phase.WAITING] += 1
        self._events: list[tuple[datetime, int, int, int, str]] = []
        self._number = 0
        self._hours = Hours(plan.window, sorted({d.zone for d in devices}))
        self._columns = Columns(devices, start, self._hours.zones)
        self._overdue: list[tuple[datetime, int, int]] = []
        self._lapsing: list[tuple[datetime, int, int]] = []

    # -- the loop ------------------------------------------------------------------------------------

    def play(self, until: datetime, watch: Callable[[datetime], None] | None = None) -> Outcome:
        """Turn after turn until the rollout ends, or until that moment."""
        now, turns = self.start, 0
        acts = sorted(self.plan.acts)
        while now <= until and self.ended_at is None:
            while acts and acts[0][0] <= now:
                self._act(acts.pop(0)[1], now)
            self._hear(now)
            if watch:
                watch(now)
            self.turn(now)
            turns += 1
            now += self.turn_length
        return self.outcome(turns)

    def outcome(self, turns: int = 0) -> Outcome:
        """How things stand."""
        return Outcome(
            phases={d.device.id: d.phase for d in self.deliveries},
            state=self.state,
            ended_at=self.ended_at,
            reason=self.reason,
            confirmed=sorted(d.confirmed_at for d in self.deliveries if d.confirmed_at),
            opened=list(self.opened),
            failed=sum(c[Phase.FAILED] for c in self.counts),
            turns=turns,
        )

    def _act(self, act: str, now: datetime) -> None:
        if act == "pause" and self.state == "running":
            self._stand_still("paused", now)
        elif act == "resume" and self.state in ("paused", "halted"):
            if self.state == "halted":
                self.accepted_failures = sum(c[Phase.FAILED] for c in self.counts)
            self.state = "running"
        elif act == "approve" and self.state in ("running", "paused", "halted"):
            shut = (r for r, met in enumerate(self.met) if met is None and self.opened[r] is not None)
            self.approved.update(r for r in shut if self.plan.rings[r].needs_approval)

    def _stand_still(self, state: str, now: datetime) -> None:
        self.state = state
        for index, delivery in enumerate(self.deliveries):
            if delivery.phase is Phase.OFFERED:
                self._move(index, Event.RECALL, now)

    # -- devices -------------------------------------------------------------------------------------

    def _plan_event(self, at: datetime, index: int, what: str) -> None:
        self._number += 1
        heapq.heappush(self._events, (at, self._number, index, self.deliveries[index].stamp, what))

    def _hear(self, now: datetime) -> None:
        """What devices did since the last turn, in its order."""
        while self._events and self._events[0][0] <= now:
            at, _, index, stamp, what = heapq.heappop(self._events)
            delivery = self.deliveries[index]
            if stamp == delivery.stamp:
                self._columns.last_call[index] = (at - self.start).total_seconds()
                self._do(index, delivery, what, at)

    def _do(self, index: int, delivery: SimDelivery, what: str, at: datetime) -> None:
        attempt = self.behaviour.attempt(delivery.device.id, delivery.attempt)
        if self._columns.with_file[index]:
            attempt = attempt.with_file()
        until = delivery.offer_until
        if what == "call":
            if until is not None and until > at:
                self._move(index, Event.FETCH, at)
                self._plan_event(at + attempt.fetch, index, "fetched")
        elif what == "fetched":
            if attempt.error == "bad-hash":
                self._fail(index, delivery, attempt.error, at)
            elif delivery.fetch_only:
                self._move(index, Event.STAGE, at)
                self._keep(index, delivery, at)
            elif until is not None and at > until:
                self._fail(index, delivery, "too-late", at)
            else:
                self._move(index, Event.INSTALL, at)
                if not attempt.lost:
                    self._plan_event(at + attempt.install, index, "installed")
        elif what == "installed":
            if attempt.error:
                self._fail(index, delivery, attempt.error, at)
            else:
                self._move(index, Event.RETURN, at)
                self._soak(index, delivery, at)
        else:
            self._soak(index, delivery, at)

    def _keep(self, index: int, delivery: SimDelivery, at: datetime) -> None:
        """Its file is there: the install comes as an order of its own, and this was no attempt at it."""
        self._move(index, Event.STORE_FILE, at)
        self._columns.with_file[index] = True
        delivery.attempt += 1
        delivery.max_attempts += 1

    def _soak(self, index: int, delivery: SimDelivery, at: datetime) -> None:
        since = delivery.since or at
        if at - since >= self.plan.soak:
            self._move(index, Event.CONFIRM, at)
            delivery.confirmed_at = at
        else:
            self._plan_event(at + min(delivery.device.interval, self.plan.soak), index, "soaks")

    def _fail(self, index: int, delivery: SimDelivery, cause: str, at: datetime) -> None:
        order = ActiveOrder(
            kind=Kind.INSTALL,
            phase=delivery.phase,
            attempt=delivery.attempt,
            max_attempts=delivery.max_attempts,
        )
        self._take(index, delivery, failure(order, cause), at)

    def _take(self, index: int, delivery: SimDelivery, step: Step, at: datetime) -> None:
        self._move(index, step.event, at)
        if step.event is Event.RETRY:
            self._columns.with_file[index] = False
            pause = retry_pause(FIRST_RETRY_PAUSE, delivery.attempt, step.cause)
            self._columns.not_before[index] = (at + pause - self.start).total_seconds()
            delivery.attempt += 1
            delivery.max_attempts += step.cause in NOT_COUNTED

    def _move(self, index: int, event: Event, at: datetime) -> None:
        delivery = self.deliveries[index]
        device, before = delivery.device, delivery.phase
        delivery.phase = advance(before, event)
        delivery.since = at
        delivery.stamp += 1
        counts = self.counts[device.ring]
        counts[before] -= 1
        counts[delivery.phase] += 1
        self._columns.waiting[index] = delivery.phase is Phase.WAITING
        self._columns.in_hand[index] = delivery.phase in ACTIVE
        self._columns.fetching[index] = delivery.phase in FETCHES
        if delivery.phase in (Phase.ACCEPTED, Phase.FETCHING, Phase.STAGED, Phase.INSTALLING):
            wait = patience(self.plan.minutes, device.interval)
            if delivery.phase is Phase.INSTALLING:
                overdue = at + wait * MUTE_FACTOR  # it goes on calling, and says nothing of the install
            else:
                overdue = max(at, delivery.offer_until or at) + wait
            heapq.heappush(self._overdue, (overdue, index, delivery.stamp))

    # -- the clock -----------------------------------------------------------------------------------

    def turn(self, now: datetime) -> None:
        """One turn: expire, recall, time out, halt or open gates and offer, finish."""
        if now >= self.start + self.plan.give_up:
            for index, delivery in enumerate(self.deliveries):
                if delivery.phase in RECALLABLE:
                    self._move(index, Event.EXPIRE, now)
        while self._lapsing and self._lapsing[0][0] <= now:
            _, index, stamp = heapq.heappop(self._lapsing)
            if self.deliveries[index].stamp == stamp:
                self._move(index, Event.RECALL, now)
        self._time_out(now)
        if self.state == "running":
            reason = self._halting()
            if reason:
                self.reason = reason
                self._stand_still("halted", now)
                return
            self._offer(self._open_gates(now), now)
        still = any(n for c in self.counts for p, n in c.items() if p in OPEN)
        if self.state == "running" and not still:
            self.state, self.ended_at = "finished", now

    def _time_out(self, now: datetime) -> None:
        while self._overdue and self._overdue[0][0] < now:
            _, index, stamp = heapq.heappop(self._overdue)
            delivery = self.deliveries[index]
            if delivery.stamp == stamp:
                self._fail(index, delivery, "no-progress" if delivery.phase is Phase.INSTALLING else "not-fetched", now)

    def _ring_counts(self, ring: int) -> RingCounts:
        return RingCounts.of_phases({p.value: n for p, n in self.counts[ring].items()})

    def _halting(self) -> str | None:
        rings = [self._ring_counts(i) for i in range(len(self.plan.rings))]
        all_of_them = reduce(add, rings)
        if all_of_them.failed <= self.accepted_failures:
            return None
        limits = {"failure_limit": self.plan.failure_limit, "count_limit": self.plan.count_limit}
        return next((r for c in (*rings, all_of_them) if (r := halt_reason(c, **limits))), None)  # type: ignore[arg-type]

    def _open_gates(self, now: datetime) -> list[int]:
        opened = []
        for ring, spec in enumerate(self.plan.rings):
            if self.opened[ring] is None:
                self.opened[ring] = now
            opened.append(ring)
            if self.met[ring] is None:
                approved = ring in self.approved
                reading = read_gate(spec, self._ring_counts(ring), self.reached[ring], now, approved=approved)
                self.reached[ring] = reading.share_reached_at
                if not reading.met:
                    break
                self.met[ring] = now
        return opened

    def _offer(self, rings: Sequence[int], now: datetime) -> None:
        in_hand = sum(n for c in self.counts for p, n in c.items() if p in ACTIVE)
        if in_hand >= self.plan.caps.max_concurrent or not any(self.counts[r][Phase.WAITING] for r in rings):
            return
        seconds, needed = (now - self.start).total_seconds(), timedelta(minutes=self.plan.minutes)
        room = Room(self.plan.caps, self._columns, in_hand, seconds)
        started, left = 0, min(room.devices, room.starts)
        for opening in self._hours.openings(now):
            latest = now + NO_WINDOW if opening.latest.year > 9000 else opening.latest - needed
            if latest <= now:
                continue
            due = self._due(rings, opening, None if self.plan.window is None else latest, now)
            free = self._columns.may_be_offered(due, opening.zones, seconds)
            for chosen, until in self._before_freezes(free, latest, needed, now):
                if started < left:
                    taken = room.take(self._columns.in_turn(chosen, seconds), left - started)
                    started += self._offer_to(taken, until, now)
        if not self.plan.prefetch:
            return
        left = room.devices - started
        for opening in openings_for_files(self.plan.window, self.plan.staging, self._hours.zones, now, needed):
            due = self._due(rings, opening, opening.latest, now)
            free = self._columns.may_fetch(due, opening.zones, seconds)
            for chosen, until in self._before_freezes(free, opening.latest, timedelta(0), now):
                if left > 0:
                    taken = room.take(self._columns.in_turn(chosen, seconds), left)
                    left -= self._offer_to(taken, until, now, fetch_only=True)

    def _due(self, rings: Sequence[int], opening: Opening, latest: datetime | None, now: datetime) -> Due:
        """Up to which place of the spread devices of each ring may begin."""
        due = np.full(len(self.plan.rings), -1.0)
        for ring in rings:
            begins = max(opening.begins, self.opened[ring] or now)
            due[ring] = share_due(self.plan.spread, begins=begins, latest=latest, now=now)
        return due

    def _before_freezes(
        self, free: Indices, latest: datetime, needed: timedelta, now: datetime
    ) -> list[tuple[Indices, datetime]]:
        batches = []
        for freeze in sorted((f for f in self.plan.freezes if f.end > now), key=lambda f: f.start):
            begin_by = freeze.start - needed
            if begin_by >= latest:
                break
            held = np.ones(len(free), dtype=bool) if freeze.everywhere else self._columns.group[free]
            if begin_by > now:
                batches.append((free[held], begin_by))
            free = free[~held]
        return [*batches, (free, latest)]

    def _offer_to(self, chosen: Sequence[int], until: datetime, now: datetime, *, fetch_only: bool = False) -> int:
        for index in chosen:
            delivery = self.deliveries[index]
            self._move(index, Event.OFFER, now)
            delivery.offer_until, delivery.fetch_only = until, fetch_only
            if not fetch_only:
                self._columns.offered_at[index] = (now - self.start).total_seconds()
            heapq.heappush(self._lapsing, (until, index, delivery.stamp))
            self._plan_event(delivery.device.call_after(self.start, now), index, "call")
        return len(chosen)
