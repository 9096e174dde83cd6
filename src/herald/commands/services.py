"""Verbs on a scheduled command that was made: approve, pause, resume, skip the next firing, run now, end."""

from collections.abc import Sequence
from datetime import datetime

from django.db import transaction

from herald.commands.compose import check_count, draft_of, note
from herald.commands.firing import EVERYWHERE, NOBODY, fire, firings_of
from herald.commands.models import LOCAL_FORM, Schedule, ScheduleState, When
from herald.commands.reach import able_of, reached_now
from herald.commands.sentence import schedule_sentence
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.http.errors import Conflict, NobodyThere
from herald.people.models import User
from herald_core.timing.firings import Firing
from herald_core.timing.windows import DEVICE_CLOCK


def set_state(schedule: Schedule, state: ScheduleState, *, actor: User | None, now: datetime) -> Schedule:
    """Pause, resume or end a schedule. Ending withdraws what no device has begun.

    Raises:
        Conflict: it has ended, waits for approval, or is in that state already.
    """
    with transaction.atomic():
        schedule = Schedule.objects.locked().get(pk=schedule.pk)
        if schedule.state in (ScheduleState.ENDED, state):
            raise Conflict(f"The command is {schedule.get_state_display().lower()} already.", state=schedule.state)
        if schedule.state == ScheduleState.PROPOSED and state != ScheduleState.ENDED:
            raise Conflict("The command waits for approval; it can be approved or ended.", state=schedule.state)
        verbs = {ScheduleState.ACTIVE: "Resumed", ScheduleState.PAUSED: "Paused", ScheduleState.ENDED: "Ended"}
        if state == ScheduleState.ACTIVE:
            schedule.fired_through, schedule.quiet_until = now, None  # firings missed meanwhile are not caught up
        schedule.state = state
        schedule.save(update_fields=["state", "fired_through", "quiet_until"])
        sentence = f"{verbs[state]} the command: {schedule_sentence(schedule)}"
        if state == ScheduleState.ENDED:
            withdrawn = deliveries.withdraw(
                Delivery.objects.of_schedule(schedule.pk), now=now, cause="the command was ended"
            )
            sentence += f" {withdrawn} withdrawn."
        if state == ScheduleState.PAUSED:
            deliveries.recall(Delivery.objects.of_schedule(schedule.pk), now=now, cause="the command was paused")
        note(schedule, sentence, actor, now)
    return schedule


def approve(schedule: Schedule, *, actor: User, now: datetime) -> Schedule:
    """Agree to a destructive command as a second person; one that runs now fires.

    Raises:
        Conflict: it does not wait for approval, or whoever proposed it agrees to it.
        NobodyThere: it runs now, and is for nobody any more.
    """
    with transaction.atomic():
        schedule = Schedule.objects.locked().get(pk=schedule.pk)
        if schedule.state != ScheduleState.PROPOSED:
            raise Conflict("The command does not wait for approval.", state=schedule.state)
        if schedule.created_by_id == actor.pk:
            raise Conflict("Somebody else must agree: you proposed it yourself.")
        schedule.state, schedule.approved_by = ScheduleState.ACTIVE, actor
        schedule.fired_through, schedule.quiet_until = now, None
        schedule.save(update_fields=["state", "approved_by", "fired_through", "quiet_until"])
        if schedule.when == When.NOW and fire(schedule, EVERYWHERE, now, now=now) == 0:
            raise NobodyThere(NOBODY)
        note(schedule, f"Approved the command: {schedule_sentence(schedule)}", actor, now)
    return schedule


def next_firing(schedule: Schedule, *, now: datetime) -> Firing | None:
    """The firing that comes next in any zone of its devices."""
    zones: Sequence[str] = [EVERYWHERE]
    if schedule.clock == DEVICE_CLOCK:
        zones = [zone for zone, _ in able_of(schedule).value_counts("time_zone", 100)]
    ahead = [next(firings_of(schedule, zone, after=now) or iter(()), None) for zone in zones]
    return min((f for f in ahead if f is not None), key=lambda f: f.at, default=None)


def skip_next(schedule: Schedule, *, local_time: str, actor: User | None, now: datetime) -> Schedule:
    """Leave the next firing out, in every zone where it has not fired yet. `local_time` is the one that somebody was
    shown, as `LOCAL_FORM` has it.

    Raises:
        Conflict: it is not active or paused, has no firing to come, or the next one is another by now.
    """
    with transaction.atomic():
        schedule = Schedule.objects.locked().get(pk=schedule.pk)
        if schedule.state not in (ScheduleState.ACTIVE, ScheduleState.PAUSED):
            raise Conflict(f"The command is {schedule.get_state_display().lower()}.", state=schedule.state)
        firing = next_firing(schedule, now=now)
        if firing is None:
            raise Conflict("It has no firing to come.")
        found = firing.local.strftime(LOCAL_FORM)
        if local_time != found:
            raise Conflict(f"The next firing is that of {found} by now, not of {local_time[:16]}.", local_time=found)
        schedule.excluded = sorted({*schedule.excluded, found})
        schedule.quiet_until, schedule.revision = None, schedule.revision + 1
        schedule.save(update_fields=["excluded", "quiet_until", "revision"])
        note(schedule, f"Skips the firing of {firing.local:%-d %b %H:%M}: {schedule_sentence(schedule)}", actor, now)
    return schedule


def run_once(schedule: Schedule, *, actor: User | None, now: datetime, expected: int | None = None) -> int:
    """Fire now, besides its times; how many devices. `expected` as in `create_schedule`.

    Raises:
        CountMismatch: `expected` is another number.
        Conflict: it has ended, or waits for approval.
        NobodyThere: its groups have no admitted device that can do it.
    """
    with transaction.atomic():
        schedule = Schedule.objects.locked().get(pk=schedule.pk)
        if schedule.state in (ScheduleState.ENDED, ScheduleState.PROPOSED):
            raise Conflict(f"The command is {schedule.get_state_display().lower()}.", state=schedule.state)
        if expected is not None:
            check_count(schedule.template, reached_now(draft_of(schedule), now=now), expected)
        devices = fire(schedule, EVERYWHERE, now, now=now)
        if devices == 0:
            raise NobodyThere(NOBODY)
        note(schedule, f"Ran once, for {devices} devices: {schedule_sentence(schedule)}", actor, now)
    return devices
