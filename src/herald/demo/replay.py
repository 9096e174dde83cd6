"""The past of the demo, lived through: the simulated devices' own code calls the gateway's, between turns of the clock,
at times that are past. What the demo's pages show of its history was done, not written.

Nothing sleeps and nothing is sent: one loop carries the time from event to event. Only devices that have an order call,
as what an idle device says changes nothing.
"""

import heapq
import random
from collections.abc import Awaitable, Callable, Coroutine, Generator, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import msgspec

from herald.clock.loop import turn
from herald.deliveries.models import Delivery
from herald.fleet.models import Device as DeviceRow
from herald.fleet.models import MembershipQueueEntry
from herald.fleet.secrets import hash_secret
from herald.gateway.flush import PendingCheckIn, flush
from herald.gateway.messages import ProtocolError, read_check_in
from herald.groups.membership import process_changed_devices, refresh_time_groups
from herald.rollouts.models import Rollout, RolloutState
from herald.samples.services import take_sample
from herald_core.deliveries import Phase
from herald_core.timing.windows import next_opening
from herald_devices.device import Device
from herald_devices.link import BadImage
from herald_devices.manifest import Fault, Persona

#: between two turns while devices are at something, and where nothing is known to come
BUSY, IDLE = timedelta(minutes=10), timedelta(days=1)
#: between two calls of the fleet; while it installs, whose durations are looked at, and otherwise
FINE, COARSE = timedelta(minutes=2), timedelta(minutes=5)
#: groups that follow the time are looked at so often
TIME_GROUPS = timedelta(days=1)
#: how long a file takes to come, and how many times as long over a satellite
FETCH_SECONDS, SATELLITE = (20.0, 120.0), 5


@dataclass(frozen=True, slots=True)
class _Pause:
    seconds: float

    def __await__(self) -> Generator["_Pause", Any, None]:
        yield self


@dataclass(frozen=True, slots=True)
class _Call:
    secret: str
    body: dict[str, Any]

    def __await__(self) -> Generator["_Call", dict[str, Any], dict[str, Any]]:
        return (yield self)


_Life = Coroutine[_Pause | _Call, Any, None]


class _Line:
    """The gateway as a played device sees it: a call waits until the loop has an answer, a file takes its time."""

    async def check_in(self, secret: str, body: dict[str, Any]) -> dict[str, Any]:
        return await _Call(secret, body)

    async def fetch(
        self,
        secret: str,
        order: dict[str, Any],
        rng: random.Random,
        *,
        slow: bool,
        spoil: bool,
        pause: Callable[[float], Awaitable[None]],
        **what: Any,
    ) -> None:
        await pause(rng.uniform(*FETCH_SECONDS) * (SATELLITE if slow else 1))
        if spoil:
            raise BadImage("bad-hash", "the file has another hash than the order says")

    async def send_output(self, secret: str, order_id: str, output: bytes) -> None:
        """What was sent long ago is not kept."""

    async def enrol(self, body: dict[str, Any]) -> dict[str, Any] | None:
        return None


class _NoMemory:
    """A played device loses no power, so it remembers nothing beyond its life."""

    remembered: Mapping[str, Mapping[str, Any]] = {}

    def keep(self, uid: str, **change: Any) -> None: ...


class _Played(Device):
    """A device whose time is the replay's."""

    def __init__(self, persona: Persona, faults: Sequence[Fault], replay: "Replay") -> None:
        super().__init__(persona, faults, _Line(), _NoMemory(), speed=1.0)
        self._replay = replay

    async def carry_out_orders(self) -> None:
        """Call as a device does whose regular call comes, until it has no order any more."""
        await self._pause(self._rng.random() * self.persona.interval_seconds)
        while True:
            wait = await self._call()
            if not self._done:
                return
            await self._pause(wait * self._rng.uniform(0.9, 1.1))

    async def _pause(self, seconds: float) -> None:
        await _Pause(seconds)

    def _is_mute(self, action: str) -> bool:
        return False  # the past has no clock that gives up on a device

    def _time(self) -> float:
        return self._replay.now.timestamp()


class Replay:
    """Carries the time on from `start`, and with it the fleet and the server.

    Args:
        personas: the fleet; what it runs and says changes as it is played.
        last_calls: when each device, by uid, called last before the replay ends; silent ones not since.
    """

    def __init__(
        self,
        personas: Iterable[Persona],
        faults: Sequence[Fault],
        last_calls: Mapping[str, datetime],
        *,
        start: datetime,
    ) -> None:
        self.now = start
        self._last_calls = last_calls
        self._devices = {p.uid: _Played(p, faults, self) for p in personas}
        self._hashes = {p.secret: hash_secret(p.secret) for p in personas}
        self._lives: dict[str, _Life] = {}
        self._asked: dict[str, _Call] = {}
        self._ended: set[str] = set()
        self._due: list[tuple[datetime, str]] = []
        self._time_groups_at = start
        self._zones = DeviceRow.objects.zones()

    def run_until(self, end: datetime) -> None:
        """Live until `end`."""
        turn_at, step = self.now, COARSE
        while self.now < end:
            if self.now >= turn_at:
                next_firing = turn(self.now)
                self._keep_groups()
                self._wake()
                turn_at = self._next_turn(next_firing)
                step = FINE if Rollout.objects.filter(state=RolloutState.RUNNING).exists() else COARSE
            calls_at = max(self._due[0][0], self.now + step) if self._due else end
            self.now = min(end, turn_at, calls_at)
            self._act()

    def settle(self) -> None:
        """Have the groups follow all that changed."""
        while MembershipQueueEntry.objects.exists() and process_changed_devices(now=self.now):
            pass
        refresh_time_groups(now=self.now)

    def _keep_groups(self) -> None:
        if self.now >= self._time_groups_at:
            self.settle()
            self._time_groups_at = self.now + TIME_GROUPS
            take_sample(now=self.now)

    def _wake(self) -> None:
        """Have those call that were offered something."""
        offered = Delivery.objects.filter(phase=Phase.OFFERED.value).order_by("id")
        for uid in offered.values_list("device__uid", flat=True):
            if uid not in self._lives and self._calls(uid):
                self._lives[uid] = self._devices[uid].carry_out_orders()
                self._resume(uid, None)

    def _calls(self, uid: str) -> bool:
        return not self._devices[uid].persona.silent or self.now < self._last_calls[uid]

    def _next_turn(self, next_firing: datetime | None) -> datetime:
        """When the clock turns again: soon while anybody is at anything, otherwise when something can begin."""
        if self._lives or Delivery.objects.open().filter(occurrence__isnull=False).exists():
            return self.now + BUSY
        offered = Delivery.objects.filter(phase=Phase.OFFERED.value)
        moments = [next_firing, *offered.values_list("offer_until", flat=True)]
        for rollout in Rollout.objects.filter(state=RolloutState.RUNNING).prefetch_related("rings"):
            moments += [next_opening(rollout.window, zone, self.now) for zone in self._zones]
            moments += [
                ring.share_reached_at + timedelta(minutes=ring.soak_minutes)
                for ring in rollout.rings.all()
                if ring.share_reached_at
            ]
        return min((m for m in moments if m is not None and m > self.now), default=self.now + IDLE)

    def _act(self) -> None:
        """Let devices act whose moment has come, and answer their calls together until none calls."""
        while self._due and self._due[0][0] <= self.now:
            _, uid = heapq.heappop(self._due)
            self._resume(uid, None)
        while self._asked:
            asked, self._asked = self._asked, {}
            answers = flush([self._arrival(call) for call in asked.values()], now=self.now)
            for uid, answer in zip(asked, answers, strict=True):
                if isinstance(answer, ProtocolError):
                    raise answer
                self._resume(uid, msgspec.to_builtins(answer))
        if self._ended:
            self._keep_last_calls()

    def _arrival(self, call: _Call) -> PendingCheckIn:
        return PendingCheckIn(self._hashes[call.secret], read_check_in(msgspec.json.encode(call.body)))

    def _resume(self, uid: str, answer: dict[str, Any] | None) -> None:
        """Let one device go on until it pauses, calls, or has no order any more."""
        try:
            asks = self._lives[uid].send(answer)
        except StopIteration:
            self._end(uid)
            return
        if isinstance(asks, _Call):
            self._asked[uid] = asks
        elif self._calls(uid):
            heapq.heappush(self._due, (self.now + timedelta(seconds=asks.seconds), uid))
        else:
            self._lives[uid].close()
            self._end(uid)

    def _end(self, uid: str) -> None:
        del self._lives[uid]
        self._ended.add(uid)

    def _keep_last_calls(self) -> None:
        """Idle devices call, though it is not played: let those that are done be seen as called."""
        rows = list(DeviceRow.objects.filter(uid__in=self._ended))
        for row in rows:
            row.last_check_in = self._last_calls[row.uid]
        DeviceRow.objects.bulk_update(rows, ["last_check_in"])
        self._ended.clear()
