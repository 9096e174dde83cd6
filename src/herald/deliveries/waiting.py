"""What a delivery waits for, and until when: never a wait without a reason."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from herald.clock.source import clock
from herald.deliveries.models import Delivery
from herald.fleet.presence import presence_of
from herald_core.deliveries import Phase
from herald_core.timing.spread import turn_comes
from herald_core.timing.windows import next_opening, opening_at

if TYPE_CHECKING:
    from herald.rollouts.models import Rollout


@dataclass(frozen=True, kw_only=True)
class Waiting:
    """A reason, and when it ends if that is known."""

    reason: str
    until: datetime | None = None


@dataclass(frozen=True, kw_only=True)
class Situation:
    """What is the same for all deliveries of a rollout, and what else is about their devices."""

    now: datetime
    in_hand: int = 0
    #: started in the last hour
    started: int = 0
    busy_devices: frozenset[int] = frozenset()
    #: devices that a rollout of higher rank wants too, and its id
    outranked: Mapping[int, int] = field(default_factory=dict)
    #: devices held by a freeze, with its name and end
    frozen: Mapping[int, tuple[str, datetime]] = field(default_factory=dict)
    #: sites whose uplink carries all the transfers it can
    full_sites: frozenset[int] = frozenset()


def waits_for(delivery: Delivery, situation: Situation | None = None) -> Waiting | None:
    """What ends the present phase; None for a closed delivery."""
    now = situation.now if situation else clock.now()
    device = delivery.device
    called = device.last_check_in
    next_call = called + timedelta(seconds=device.check_in_interval_seconds) if called else None
    match Phase(delivery.phase):
        case Phase.OFFERED:
            what = "its next check-in, to fetch the file ahead" if delivery.fetch_only else "its next check-in"
            return Waiting(reason=what, until=next_call)
        case Phase.ACCEPTED | Phase.FETCHING | Phase.STAGED if delivery.fetch_only:
            return Waiting(reason="the device to fetch the file ahead", until=None)
        case Phase.ACCEPTED | Phase.FETCHING | Phase.STAGED:
            return Waiting(reason="the device to fetch the file", until=None)
        case Phase.INSTALLING:
            minutes = delivery.image.expected_minutes if delivery.image else 0
            return Waiting(reason="the install", until=delivery.phase_since + timedelta(minutes=minutes))
        case Phase.RUNNING:
            return Waiting(reason="the device to come back")
        case Phase.CONFIRMING:
            soak = delivery.image.soak_minutes if delivery.image else 0
            return Waiting(reason="good health", until=delivery.phase_since + timedelta(minutes=soak))
        case Phase.WAITING:
            return _waiting(delivery, next_call, now, situation)
    return None


def _waiting(delivery: Delivery, next_call: datetime | None, now: datetime, situation: Situation | None) -> Waiting:
    rollout = delivery.rollout
    if rollout is not None and rollout.state in ("paused", "halted"):
        return Waiting(reason=f"the rollout is {rollout.state}")
    if rollout is not None and delivery.ring is not None and delivery.ring.opened_at is None and not delivery.pushed:
        return Waiting(reason=f"the gate before ring {delivery.ring.position}")
    if delivery.held:
        return Waiting(reason=f"somebody to release it: {delivery.held}")
    if delivery.not_before > now:
        paused = delivery.attempt > 1 and delivery.staged_at is None
        begins = "the day on which the rollout begins" if rollout is not None else "its time"
        why = "the pause after a failed attempt" if paused else begins
        return Waiting(reason=why, until=delivery.not_before)
    presence = presence_of(delivery.device.last_check_in, delivery.device.check_in_interval_seconds, now)
    if presence in ("silent", "never seen"):
        return Waiting(reason=f"a call: the device is {presence}", until=delivery.not_after)
    if situation and delivery.device_id in situation.busy_devices:
        return Waiting(reason="another order that the device has in hand")
    if rollout is not None and situation is not None:
        held = _held_elsewhere(delivery, situation)
        if held:
            return held
    if rollout is not None:
        held = _held_by_hours(rollout, delivery, now)
        if held:
            return held
        if situation and situation.in_hand >= rollout.at_once:
            return Waiting(reason=f"room: {rollout.at_once} at once is the cap")
        if situation and rollout.starts_per_hour is not None and situation.started >= rollout.starts_per_hour:
            return Waiting(reason=f"room: {rollout.starts_per_hour} started per hour is the cap")
    return Waiting(reason="the next turn of the clock", until=next_call)


def _held_elsewhere(delivery: Delivery, situation: Situation) -> Waiting | None:
    if delivery.device_id in situation.frozen:
        name, ends = situation.frozen[delivery.device_id]
        return Waiting(reason=f"the end of the freeze “{name}”", until=ends)
    if delivery.device_id in situation.outranked:
        return Waiting(reason=f"rollout {situation.outranked[delivery.device_id]}, which ranks higher")
    if delivery.device.site_id in situation.full_sites:
        return Waiting(reason="room: the site's uplink carries all it can")
    return None


def _held_by_hours(rollout: "Rollout", delivery: Delivery, now: datetime) -> Waiting | None:
    window, zone = rollout.window, delivery.device.time_zone
    opening = opening_at(window, zone, now)
    needed = timedelta(minutes=delivery.image.expected_minutes if delivery.image else 0)
    file = "; its file is there" if delivery.staged_at else ""
    if opening is None:
        return Waiting(reason=f"the window, by the device's clock{file}", until=next_opening(window, zone, now))
    begins, closes = opening
    if window is not None and closes - now <= needed:
        return Waiting(
            reason=f"the next window: too little of this one is left{file}",
            until=next_opening(window, zone, closes),
        )
    return _held_by_spread(rollout, delivery, begins, None if window is None else closes - needed, now)


def _held_by_spread(
    rollout: "Rollout", delivery: Delivery, begins: datetime, latest: datetime | None, now: datetime
) -> Waiting | None:
    opens = rollout.begins_in(delivery.ring) if delivery.ring else None
    if delivery.pushed or opens is None:
        return None
    spread = timedelta(minutes=rollout.spread_minutes)
    turn = turn_comes(delivery.place, spread, begins=max(begins, opens), latest=latest)
    if turn <= now:
        return None
    return Waiting(reason=f"its turn: starts are spread over {rollout.spread_minutes} min", until=turn)
