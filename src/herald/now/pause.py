"""Pausing everything: all that runs, in one press; and taking that back as one act."""

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from functools import partial

import structlog
from django.db import IntegrityError, transaction

from herald.commands.models import Schedule, ScheduleState
from herald.commands.services import set_state
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import counted
from herald.http.errors import Conflict
from herald.now.models import PauseOfEverything
from herald.people.models import User
from herald.record.services import record
from herald.rollouts.intervene import lifecycle
from herald.rollouts.launch.launching import fail_launch
from herald.rollouts.models import Rollout, RolloutState

log = structlog.get_logger(__name__)
#: how a rollout says why it is paused: by this it is known that nobody has paused it by hand since
BECAUSE = "everything was paused"
NOT_LAUNCHED = "everything was paused before it began"


@dataclass(frozen=True, kw_only=True)
class Scope:
    """What runs and would be paused: rollouts, those about to be launched, commands, and the devices that are at an
    order of any of these and will finish it."""

    rollouts: int
    launching: int
    schedules: int
    finishing: int


@dataclass(frozen=True, kw_only=True)
class Held:
    """What a standing pause holds, and what would go on if it were taken back: devices that wait in its rollouts."""

    pause: PauseOfEverything
    rollouts: list[Rollout]
    schedules: list[Schedule]
    waiting: int


@dataclass(kw_only=True)
class Outcome:
    """What an act did: how many rollouts, launches and commands; and in words what it could not do."""

    rollouts: int = 0
    launches: int = 0
    schedules: int = 0
    failed: list[str] = field(default_factory=list)

    @property
    def words(self) -> str:
        parts = [f"{_some(self.rollouts, 'rollout')} and {_some(self.schedules, 'command')}"]
        if self.launches:
            parts.append(f"{_some(self.launches, 'launch', 'launches')} taken back")
        if self.failed:
            parts.append(f"not {'; '.join(self.failed)}")
        return ", ".join(parts)


def scope() -> Scope:
    """What runs at this moment."""
    rollouts = list(Rollout.objects.filter(state=RolloutState.RUNNING).values_list("pk", flat=True))
    schedules = list(Schedule.objects.active().values_list("pk", flat=True))
    return Scope(
        rollouts=len(rollouts),
        launching=Rollout.objects.filter(state=RolloutState.LAUNCHING).count(),
        schedules=len(schedules),
        finishing=Delivery.objects.begun_of(rollouts, schedules),
    )


def held() -> Held | None:
    """What the pause that stands holds, of what it paused; None where none stands."""
    pause = PauseOfEverything.objects.standing().select_related("paused_by").first()
    if pause is None:
        return None
    rollouts = [r for r in Rollout.objects.filter(pk__in=pause.rollout_ids).order_by("rank", "pk") if _is_held(r)]
    schedules = Schedule.objects.listed().filter(pk__in=pause.schedule_ids, state=ScheduleState.PAUSED)
    # one that was resumed meanwhile, and paused again, was looked through for firings since
    mine = [s for s in schedules.order_by("pk") if s.fired_through <= pause.pressed_at]
    waiting = Delivery.objects.waiting_of([r.pk for r in rollouts])
    return Held(pause=pause, rollouts=rollouts, schedules=mine, waiting=waiting)


def pause_everything(*, reason: str, actor: User | None, now: datetime) -> Outcome:
    """Pause each rollout and command that runs, and take back launches that have not begun. Each by itself, so that one
    that cannot be paused stops no other; what is done is kept at once, so that it can be pressed again.

    Raises:
        Conflict: nothing runs.
    """
    found = scope()
    if not (found.rollouts or found.launching or found.schedules):
        raise Conflict("Nothing runs: no rollout, and no command that fires.")
    pause = _standing(reason, actor, now)
    done = Outcome()
    # launches first: one that is at it is waited for, and is a rollout that runs when it has ended
    for pk in Rollout.objects.filter(state=RolloutState.LAUNCHING).values_list("pk", flat=True):
        if _did(f"rollout {pk}", done, partial(fail_launch, pk, NOT_LAUNCHED, now=now)):
            done.launches += Rollout.objects.filter(pk=pk, state=RolloutState.DRAFT).exists()
    for rollout in Rollout.objects.filter(state=RolloutState.RUNNING).order_by("rank"):
        done.rollouts += _did(f"rollout {rollout.pk}", done, partial(_pause_rollout, pause, rollout, actor, now))
    for schedule in Schedule.objects.active():
        done.schedules += _did(f"command {schedule.pk}", done, partial(_pause_schedule, pause, schedule, actor, now))
    finishing = f"; {counted(found.finishing)} at it will finish" if found.finishing else ""
    sentence = f"Paused everything ({reason}): {done.words}{finishing}"
    record(now=now, actor=actor, kind="everything", object_id=pause.pk, sentence=sentence[:300])
    return done


def resume_everything(*, actor: User | None, now: datetime) -> Outcome:
    """Let go on what the standing pause holds, and nothing else.

    Raises:
        Conflict: none stands.
    """
    found = held()
    if found is None:
        raise Conflict("Nothing was paused as a whole, or that was taken back already.")
    done = Outcome()
    for rollout in found.rollouts:
        act = partial(_resume_rollout, rollout, actor, now)
        done.rollouts += _did(f"rollout {rollout.pk}", done, act, tells=True)
    for schedule in found.schedules:
        goes_on = partial(set_state, schedule, ScheduleState.ACTIVE, actor=actor, now=now)
        done.schedules += _did(f"command {schedule.pk}", done, goes_on, tells=True)
    with transaction.atomic():
        ended = PauseOfEverything.objects.standing().filter(pk=found.pause.pk)
        ended.update(ended_at=now, ended_by=actor, is_standing=None)
        sentence = f"Resumed what was paused as a whole: {done.words}"
        record(now=now, actor=actor, kind="everything", object_id=found.pause.pk, sentence=sentence[:300])
    return done


def _is_held(rollout: Rollout) -> bool:
    return rollout.state == RolloutState.PAUSED and rollout.reason == BECAUSE


def _standing(reason: str, actor: User | None, now: datetime) -> PauseOfEverything:
    """The pause that stands, pressed again, or a new one."""
    for _ in range(2):
        with transaction.atomic():
            found = PauseOfEverything.objects.standing().select_for_update().first()
            if found is not None:
                found.pressed_at = now
                found.save(update_fields=["pressed_at"])
                return found
        try:
            with transaction.atomic():
                return PauseOfEverything.objects.create(began_at=now, pressed_at=now, reason=reason, paused_by=actor)
        except IntegrityError:  # somebody else pressed at the same moment: theirs stands
            continue
    raise Conflict("Somebody else is pausing everything, or taking that back. Try again.")


def _did(what: str, done: Outcome, act: Callable[[], object], *, tells: bool = False) -> int:
    """One of many: 1 where it was done. What breaks is told, and stops no other; so is a refusal, if wanted."""
    try:
        act()
    except Conflict as refusal:  # it changed meanwhile, or may not
        if tells:
            done.failed.append(f"{what}, as {refusal.detail}")
        return 0
    except Exception:
        log.exception("pause_failed", what=what)
        done.failed.append(what)
        return 0
    return 1


def _pause_rollout(pause: PauseOfEverything, rollout: Rollout, actor: User | None, now: datetime) -> None:
    with transaction.atomic():
        lifecycle.pause(rollout, actor=actor, now=now, reason=BECAUSE)
        _add(pause, "rollout_ids", rollout.pk)


def _pause_schedule(pause: PauseOfEverything, schedule: Schedule, actor: User | None, now: datetime) -> None:
    with transaction.atomic():
        set_state(schedule, ScheduleState.PAUSED, actor=actor, now=now)
        _add(pause, "schedule_ids", schedule.pk)


def _resume_rollout(rollout: Rollout, actor: User | None, now: datetime) -> None:
    with transaction.atomic():
        if not _is_held(Rollout.objects.select_for_update().get(pk=rollout.pk)):
            raise Conflict("It went on meanwhile.")
        lifecycle.resume(rollout, actor=actor, now=now)


def _add(pause: PauseOfEverything, name: str, pk: int) -> None:
    row = PauseOfEverything.objects.select_for_update().get(pk=pause.pk)
    setattr(row, name, sorted({*getattr(row, name), pk}))
    row.save(update_fields=[name])


def _some(n: int, one: str, many: str = "") -> str:
    return f"{n} {one if n == 1 else many or one + 's'}"
