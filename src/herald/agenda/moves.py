"""Moving what stands in the calendar: what it would do is computed by doing it, and undoing it again.

A move is done by the service that changes the object anywhere else, with all that it checks; what stands here is which
changes a move may make, what they do to forecasts and conflicts, and the move that takes them back.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from enum import StrEnum
from itertools import islice
from typing import Any

from django.db import transaction

from herald.calendar.models import Freeze
from herald.calendar.services import devices_held, draft_of_freeze, next_time, save_freeze
from herald.commands.compose import change_schedule, draft_of
from herald.commands.firing import firings_of
from herald.commands.models import Schedule
from herald.commands.reach import reach_of
from herald.deliveries.models import Delivery
from herald.http.errors import Conflict, Invalid, NotFound
from herald.people.models import User
from herald.rollouts.intervene.edit import edit_open_rollout
from herald.rollouts.intervene.lifecycle import order_by_rank
from herald.rollouts.models import OPEN_STATES, Rollout
from herald.rollouts.watch.forecast import forecast_rollout

#: of more rollouts than these that a move touches, the largest are forecast
MOST_FORECAST = 6
_OF_ROLLOUT = ("window_start", "window_end", "max_concurrent", "max_concurrent_per_site", "max_starts_per_hour")


class MoveKind(StrEnum):
    """What is moved."""

    ROLLOUT = "rollout"
    SCHEDULE = "schedule"
    FREEZE = "freeze"


@dataclass(frozen=True, kw_only=True)
class Move:
    """A change of one object, with what it does in words.

    Of a rollout: `window_start` and `window_end`, caps, or `order`, the ids of the open rollouts by rank. Of a
    schedule: `time_of_day`. Of a freeze: `start_by` and `end_by`, minutes by which each end moves.
    """

    kind: MoveKind
    id: int
    change: Mapping[str, Any]
    words: str = ""


@dataclass(frozen=True, kw_only=True)
class RolloutEnds:
    """The end that is expected of a rollout before a move and after it: low, median and high, empty for none."""

    rollout: Rollout
    before: Mapping[str, datetime | None]
    after: Mapping[str, datetime | None]


@dataclass(frozen=True, kw_only=True)
class NextFiring:
    """The next firing of a schedule in a zone before a move and after it, and for how many devices."""

    zone: str
    devices: int
    before: datetime | None
    after: datetime | None


@dataclass(frozen=True, kw_only=True)
class MoveConsequences:
    """What a move would do. `devices` counts those that it is about; `undo` takes it back."""

    devices: int
    rollouts: Sequence[RolloutEnds]
    firings: Sequence[NextFiring]
    undo: Move


@contextmanager
def undone() -> Iterator[None]:
    """What is done within is taken back at the end."""
    with transaction.atomic():
        yield
        transaction.set_rollback(True)


def carry_out(move: Move, *, actor: User, now: datetime) -> Move:
    """Make a move; the move that takes it back.

    Raises:
        NotFound: the object is gone. Invalid, Conflict: as the object's own service says.
    """
    return _BY_KIND[move.kind](move, actor, now)


def consequences_of_move(
    move: Move, *, actor: User, now: datetime, look: Callable[[], Any]
) -> tuple[MoveConsequences, Any, Any]:
    """What a move would do, with what `look` sees before it and after it. Nothing is changed.

    Raises:
        as `carry_out` does.
    """
    devices, touched = _touched(move, now)
    schedule = Schedule.objects.active().filter(pk=move.id).first() if move.kind is MoveKind.SCHEDULE else None
    ends_before = {r.pk: _end(r, now) for r in touched}
    firings_before = _next_firings(schedule, now)
    seen_before = look()
    with undone():
        undo = carry_out(move, actor=actor, now=now)
        more_devices, touched_after = _touched(move, now)
        rollouts = {r.pk: r for r in touched_after} | {r.pk: r for r in Rollout.objects.filter(pk__in=ends_before)}
        ends_after = {pk: _end(r, now) for pk, r in rollouts.items()}
        fresh = Schedule.objects.active().filter(pk=move.id).first() if schedule else None
        firings_after = _next_firings(fresh, now)
        seen_after = look()
    ends = [
        RolloutEnds(rollout=r, before=ends_before[pk] if pk in ends_before else _end(r, now), after=ends_after[pk])
        for pk, r in rollouts.items()
    ]
    firings = [
        NextFiring(zone=z, devices=n, before=at, after=firings_after.get(z, (0, None))[1])
        for z, (n, at) in firings_before.items()
    ]
    told = MoveConsequences(devices=max(devices, more_devices), rollouts=ends, firings=firings, undo=undo)
    return told, seen_before, seen_after


def _touched(move: Move, now: datetime) -> tuple[int, list[Rollout]]:
    """How many devices a move is about, and the open rollouts whose end it may change."""
    opened = Rollout.objects.listed().filter(state__in=OPEN_STATES)
    if move.kind is MoveKind.ROLLOUT:
        mine = opened.filter(pk=move.id)
        if "order" in move.change:
            named = [pk for pk in move.change["order"] if isinstance(pk, int)]
            mine = opened.filter(pk__in=named[:MOST_FORECAST])
        return Delivery.objects.of_rollout(move.id).open().count(), list(mine)
    if move.kind is MoveKind.SCHEDULE:
        schedule = Schedule.objects.active().filter(pk=move.id).first()
        return (sum(n for _, n in reach_of([schedule], now=now)[schedule.pk].zones) if schedule else 0), []
    freeze = Freeze.objects.filter(pk=move.id).first()
    time = next_time(freeze, now) if freeze else None
    if time is None:
        return 0, []
    held = devices_held([time])
    left = dict(Delivery.objects.open_by_rollout(held))
    by_size = sorted((r for r in opened if r.pk in left and not r.ignores_freezes), key=lambda r: -left[r.pk])
    return len(held), by_size[:MOST_FORECAST]


def _end(rollout: Rollout, now: datetime) -> Mapping[str, datetime | None]:
    return forecast_rollout(rollout, now=now).forecast.end.moments(now)


def _next_firings(schedule: Schedule | None, now: datetime) -> dict[str, tuple[int, datetime | None]]:
    if schedule is None:
        return {}
    found: dict[str, tuple[int, datetime | None]] = {}
    for zone, n in reach_of([schedule], now=now)[schedule.pk].zones:
        [*first] = islice(firings_of(schedule, zone, after=now) or (), 1)
        found[zone] = (n, first[0].at if first else None)
    return found


def _move_rollout(move: Move, actor: User, now: datetime) -> Move:
    rollout = Rollout.objects.filter(pk=move.id).first()
    if rollout is None:
        raise NotFound(f"There is no rollout {move.id}.")
    if "order" in move.change:
        _only(move, ("order",))
        before = [r.pk for r in Rollout.objects.moving()]
        order_by_rank(move.change["order"], actor=actor, now=now)
        return replace(move, change={"order": before}, words="")
    _only(move, _OF_ROLLOUT)
    before_fields = {name: getattr(rollout, name) for name in move.change}
    edit_open_rollout(rollout, move.change, {}, actor=actor, now=now)
    return replace(move, change=before_fields, words="")


def _move_schedule(move: Move, actor: User, now: datetime) -> Move:
    schedule = Schedule.objects.listed().filter(pk=move.id).first()
    if schedule is None:
        raise NotFound(f"There is no command {move.id}.")
    _only(move, ("time_of_day",))
    draft = draft_of(schedule)
    if "BYHOUR" in draft.rule or "BYMINUTE" in draft.rule or draft.time_of_day is None:
        raise Conflict("The hours stand in its rule; change them on its own page.")
    if draft.excluded:
        # what was left out is a time of its rule, and moves with it
        at = f"{move.change['time_of_day']:%H:%M}"
        draft = replace(draft, excluded=[f"{text[:11]}{at}" for text in draft.excluded])
    draft = replace(draft, time_of_day=move.change["time_of_day"])
    before = schedule.time_of_day
    change_schedule(schedule, draft, revision=schedule.revision, actor=actor, now=now)
    return replace(move, change={"time_of_day": before}, words="")


def _move_freeze(move: Move, actor: User, now: datetime) -> Move:
    freeze = Freeze.objects.filter(pk=move.id).first()
    if freeze is None:
        raise NotFound(f"There is no freeze {move.id}.")
    _only(move, ("start_by", "end_by"))
    start_by, end_by = (timedelta(minutes=move.change.get(name, 0)) for name in ("start_by", "end_by"))
    draft = draft_of_freeze(freeze)
    draft = replace(draft, starts_at=draft.starts_at + start_by, ends_at=draft.ends_at + end_by)
    save_freeze(draft, actor=actor, now=now, freeze=freeze)
    back = {name: -move.change[name] for name in move.change}
    return replace(move, change=back, words="")


def _only(move: Move, known: Sequence[str]) -> None:
    unknown = sorted(set(move.change) - set(known))
    if unknown or not move.change:
        what = f"“{unknown[0]}” cannot be moved" if unknown else "Nothing is moved"
        raise Invalid("/change", f"{what}; what can be is {', '.join(known)}.")


_BY_KIND: Mapping[MoveKind, Callable[[Move, User, datetime], Move]] = {
    MoveKind.ROLLOUT: _move_rollout,
    MoveKind.SCHEDULE: _move_schedule,
    MoveKind.FREEZE: _move_freeze,
}
