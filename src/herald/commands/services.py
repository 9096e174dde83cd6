"""Verbs on scheduled commands: preview, make, pause, resume, end, run now, and firing."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from itertools import islice

from django.db import transaction
from django.db.models import Q

from herald.attention.models import Part
from herald.attention.quarantine import Isolation
from herald.commands.models import (
    HARM,
    CommandTemplate,
    FreezeChoice,
    Harm,
    Occurrence,
    Schedule,
    ScheduleState,
    When,
)
from herald.commands.reach import audience_among, audience_of, in_freeze, reached_now
from herald.commands.sentence import schedule_sentence
from herald.deliveries import services as deliveries
from herald.deliveries.conflicts import AudienceConflict, conflicts_with_others
from herald.deliveries.models import Delivery
from herald.deliveries.time_outs import end_unheard
from herald.fleet.models import Device
from herald.groups.audience import audience_query, named_ids
from herald.groups.models import Group
from herald.http.dates import check_plannable
from herald.http.errors import Conflict, CountMismatch, Invalid, NobodyThere
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.deliveries import ACTIVE, Kind, Phase
from herald_core.preflight import leeway
from herald_core.timing.clocks import instant
from herald_core.timing.firings import daily_firings, spread_seconds

#: Zone of an occurrence that fires for all devices at one moment.
EVERYWHERE = "*"
NOBODY = "Its audience has no admitted device whose firmware can do it, so it is for nobody."


@dataclass(frozen=True, kw_only=True)
class ScheduleDraft:
    """A command as it is written down."""

    template: CommandTemplate
    include: Sequence[Group]
    exclude: Sequence[Group] = ()
    #: devices that are named, by id
    devices: Sequence[int] = ()
    when: When
    time_of_day: time | None = None
    starts_on: date | None = None
    until: date | None = None
    spread_minutes: int = 20
    expires_after_minutes: int = 120
    max_concurrent: int = 500
    freezes: FreezeChoice = FreezeChoice.WAIT


@dataclass(frozen=True, kw_only=True)
class ZoneFirings:
    """The next firings in one zone, and how many devices of the audience are there now."""

    zone: str
    devices: int
    firings: list[tuple[datetime, str]]


def preview_firings(draft: ScheduleDraft, *, now: datetime, count: int = 10) -> list[ZoneFirings]:
    """The next firings per zone of the audience. Each with what a clock change does to it, if anything.

    Raises:
        Invalid: a field does not fit.
    """
    check(draft)
    return firings_by_zone(draft, audience_of(draft).able.value_counts("time_zone", 100), now=now, count=count)


def firings_by_zone(
    draft: "ScheduleDraft | Schedule", zones: Iterable[tuple[str, int]], *, now: datetime, count: int
) -> list[ZoneFirings]:
    """The next firings in zones with so many devices each, the zone where it fires first before the others."""
    result = []
    for zone, devices in zones:
        if draft.when == When.NOW or draft.time_of_day is None:
            firings = [(now, "")]
        else:
            after = _first_moment(draft.starts_on, zone, now)
            firings = [
                (f.at, f.shift.value)
                for f in islice(daily_firings(draft.time_of_day, zone, after=after, until=draft.until), count)
            ]
        result.append(ZoneFirings(zone=zone, devices=devices, firings=firings))
    return sorted(result, key=lambda z: z.firings[0][0] if z.firings else now)


def _first_moment(starts_on: date | None, zone: str, now: datetime) -> datetime:
    """The latest moment that must lie before the first firing in a zone."""
    if starts_on is None:
        return now
    midnight, _ = instant(datetime.combine(starts_on, time()), zone)
    return max(now, midnight - timedelta(seconds=1))


def check(draft: ScheduleDraft) -> None:
    """Refuse a command that does not fit.

    Raises:
        Invalid: with the field and what would fit.
    """
    if (draft.when == When.DAILY) != (draft.time_of_day is not None):
        raise Invalid("/time_of_day", "A daily command has a time of day; one that runs now has none.")
    if draft.expires_after_minutes <= draft.spread_minutes:
        raise Invalid(
            "/expires_after_minutes", "It must give up later than the spread, or the last devices get no chance."
        )
    if draft.expires_after_minutes > 23 * 60:
        raise Invalid("/expires_after_minutes", "It must give up within 23 hours, before the next firing.")
    check_plannable(draft.starts_on, "/starts_on")
    check_plannable(draft.until, "/until")
    if draft.until and draft.starts_on and draft.until < draft.starts_on:
        raise Invalid("/until", "It ends before it starts.")


def check_new(draft: ScheduleDraft, *, now: datetime) -> None:
    """Refuse a new command that does not fit, or that would never fire.

    Raises:
        Invalid: with the field and what would fit.
    """
    check(draft)
    # somewhere it is still the day before
    if draft.until and draft.until < (now - timedelta(hours=14)).date():
        raise Invalid("/until", "This day is past everywhere, so it would never fire.")


def create_schedule(
    draft: ScheduleDraft, *, actor: User | None, now: datetime, expected: int | None = None
) -> Schedule:
    """A new command; one that runs now fires at once. `expected` is the number of devices that somebody was shown and
    typed, for one that runs now; None is the system itself.

    Raises:
        Invalid: a field does not fit.
        NobodyThere: it would run now, for nobody.
        CountMismatch: it would run now, and `expected` is another number.
    """
    check_new(draft, now=now)
    if draft.when == When.NOW and expected is not None:
        check_count(draft.template, reached_now(draft, now=now), expected)
    with transaction.atomic():
        if not draft.include and not draft.devices:
            raise NobodyThere("No group and no device was chosen, so it is for nobody.")
        schedule = Schedule.objects.create(
            template=draft.template,
            when=draft.when,
            time_of_day=draft.time_of_day,
            starts_on=draft.starts_on,
            until=draft.until,
            spread_minutes=draft.spread_minutes,
            expires_after_minutes=draft.expires_after_minutes,
            max_concurrent=draft.max_concurrent,
            freezes=draft.freezes,
            created_at=now,
            created_by=actor,
            fired_through=now,
        )
        schedule.include.set(draft.include)
        schedule.exclude.set(draft.exclude)
        schedule.devices.set(draft.devices)
        if draft.when == When.NOW and fire(schedule, EVERYWHERE, now, now=now) == 0:
            raise NobodyThere(NOBODY)
        _note(schedule, f"Made the command: {schedule_sentence(schedule)}", actor, now)
    return schedule


def draft_of(schedule: Schedule) -> ScheduleDraft:
    """A schedule as it was written down."""
    return ScheduleDraft(
        template=CommandTemplate(schedule.template),
        include=list(schedule.include.all()),
        exclude=list(schedule.exclude.all()),
        devices=named_ids(schedule),
        when=When(schedule.when),
        time_of_day=schedule.time_of_day,
        starts_on=schedule.starts_on,
        until=schedule.until,
        spread_minutes=schedule.spread_minutes,
        expires_after_minutes=schedule.expires_after_minutes,
        max_concurrent=schedule.max_concurrent,
        freezes=FreezeChoice(schedule.freezes),
    )


def conflicts_of(draft: ScheduleDraft, *, now: datetime) -> list[AudienceConflict]:
    """What else wants the devices of a command: open rollouts, and other commands; a twin of it among them."""
    return conflicts_with_others(audience_of(draft).able.order_by(), now)


def set_state(schedule: Schedule, state: ScheduleState, *, actor: User | None, now: datetime) -> Schedule:
    """Pause, resume or end a schedule. Ending withdraws what no device has begun.

    Raises:
        Conflict: it has ended, or is in that state already.
    """
    with transaction.atomic():
        schedule = Schedule.objects.select_for_update().get(pk=schedule.pk)
        if schedule.state in (ScheduleState.ENDED, state):
            raise Conflict(f"The command is {schedule.get_state_display().lower()} already.", state=schedule.state)
        verbs = {ScheduleState.ACTIVE: "Resumed", ScheduleState.PAUSED: "Paused", ScheduleState.ENDED: "Ended"}
        if state == ScheduleState.ACTIVE:
            schedule.fired_through = now  # firings missed while it was paused are not caught up
        schedule.state = state
        schedule.save(update_fields=["state", "fired_through"])
        sentence = f"{verbs[state]} the command: {schedule_sentence(schedule)}"
        if state == ScheduleState.ENDED:
            withdrawn = deliveries.withdraw(
                Delivery.objects.of_schedule(schedule.pk), now=now, cause="the command was ended"
            )
            sentence += f" {withdrawn} withdrawn."
        if state == ScheduleState.PAUSED:
            deliveries.recall(Delivery.objects.of_schedule(schedule.pk), now=now, cause="the command was paused")
        _note(schedule, sentence, actor, now)
    return schedule


def check_count(template: CommandTemplate, reached: int, expected: int) -> None:
    """Refuse a disruptive command that runs now for another number of devices than was typed.

    Raises:
        CountMismatch: with the number that it would be for.
    """
    if HARM[template] != Harm.GENTLE and reached and abs(expected - reached) > leeway(reached):
        message = f"It would run on {reached} devices, and {expected} was typed. Type the number that is shown."
        raise CountMismatch(message, reached=reached)


def run_once(schedule: Schedule, *, actor: User | None, now: datetime, expected: int | None = None) -> int:
    """Fire now, besides its times; how many devices. `expected` as in `create_schedule`.

    Raises:
        CountMismatch: `expected` is another number.
        Conflict: it has ended.
        NobodyThere: its groups have no admitted device that can do it.
    """
    with transaction.atomic():
        schedule = Schedule.objects.select_for_update().get(pk=schedule.pk)
        if schedule.state == ScheduleState.ENDED:
            raise Conflict("The command has ended.", state=schedule.state)
        if expected is not None:
            check_count(CommandTemplate(schedule.template), reached_now(draft_of(schedule), now=now), expected)
        devices = fire(schedule, EVERYWHERE, now, now=now)
        if devices == 0:
            raise NobodyThere(NOBODY)
        _note(schedule, f"Ran once, for {devices} devices: {schedule_sentence(schedule)}", actor, now)
    return devices


def _note(schedule: Schedule, sentence: str, actor: User | None, now: datetime) -> None:
    record(now=now, actor=actor, kind="schedule", object_id=schedule.pk, sentence=sentence)
    notify("schedule", schedule.pk)


def fire(schedule: Schedule, zone: str, fires_at: datetime, *, now: datetime) -> int:
    """Write an occurrence and its deliveries for the audience of this moment; how many devices.

    Safe to repeat: an occurrence that exists is left as it is.
    """
    whom = audience_among(CommandTemplate(schedule.template), audience_query(schedule))
    here = Q() if zone == EVERYWHERE else Q(time_zone=zone)
    expires_at = fires_at + timedelta(minutes=schedule.expires_after_minutes)
    with transaction.atomic():
        able, frozen = whom.able.filter(here), 0
        if schedule.freezes == FreezeChoice.DROP:
            held = in_freeze(CommandTemplate(schedule.template), fires_at)
            frozen, able = able.filter(held).count(), able.exclude(held)
        devices = list(able.order_by("id").values_list("id", "uid"))
        occurrence, new = Occurrence.objects.get_or_create(
            schedule=schedule,
            zone=zone,
            fires_at=fires_at,
            defaults={
                "expires_at": expires_at,
                "audience": len(devices),
                "frozen": frozen,
                "unsupported_count": whom.unable.filter(here).count(),
            },
        )
        if not new:
            return occurrence.audience
        spread = timedelta(minutes=schedule.spread_minutes)
        expired = now >= expires_at
        deliveries.write_deliveries(
            [
                Delivery(
                    device_id=pk,
                    kind=Kind.COMMAND.value,
                    occurrence=occurrence,
                    phase=(Phase.EXPIRED if expired else Phase.WAITING).value,
                    phase_since=now,
                    created_at=now,
                    not_before=fires_at + timedelta(seconds=spread_seconds(f"schedule-{schedule.pk}", uid, spread)),
                    not_after=expires_at,
                )
                for pk, uid in devices
            ]
        )
        notify("schedule", schedule.pk)
    return len(devices)


def turn_schedules(*, now: datetime, isolation: Isolation | None = None) -> datetime | None:
    """One turn of the clock for all schedules: fire what is due, offer what waits, give up. The next firing of any."""
    isolation = isolation or Isolation(now)
    active = list(Schedule.objects.active())
    zones = Device.objects.zones() if active else []
    open_now = _open_by_schedule()
    firings: list[datetime] = []

    for schedule in active:

        def work(schedule: Schedule = schedule) -> None:
            if schedule.when == When.DAILY and schedule.time_of_day:
                firings.extend(_fire_due(schedule, zones, now))
            _offer(schedule, open_now.get(schedule.pk, {}), now)
            _end_if_over(schedule, now)

        isolation.run(Part.SCHEDULE, schedule.pk, work)
    if open_now:
        end_unheard(Kind.COMMAND, isolation)
    return min(firings, default=None)


def _open_by_schedule() -> dict[int, dict[int, dict[str, int]]]:
    """For each schedule its occurrences with open deliveries, and how many are in each phase."""
    counted = Delivery.objects.open_commands()
    schedules = Occurrence.objects.schedules_of({occurrence for occurrence, _, _ in counted})
    found: dict[int, dict[int, dict[str, int]]] = {}
    for occurrence, phase, count in counted:
        found.setdefault(schedules[occurrence], {}).setdefault(occurrence, {})[phase] = count
    return found


def _fire_due(schedule: Schedule, zones: Sequence[str], now: datetime) -> list[datetime]:
    """Fire what is due; the next firing in each zone."""
    ahead = []
    assert schedule.time_of_day is not None
    for zone in zones:
        after = _first_moment(schedule.starts_on, zone, schedule.fired_through)
        for firing in daily_firings(schedule.time_of_day, zone, after=after, until=schedule.until):
            if firing.at > now:
                ahead.append(firing.at)
                break
            fire(schedule, zone, firing.at, now=now)
    Schedule.objects.filter(pk=schedule.pk).update(fired_through=now)
    return ahead


def _offer(schedule: Schedule, open_now: Mapping[int, Mapping[str, int]], now: datetime) -> None:
    """Offer what waits, of the occurrences that have something open."""
    in_hand = sum(n for phases in open_now.values() for phase, n in phases.items() if phase in ACTIVE)
    room = schedule.max_concurrent - in_hand
    with_waiting = [o for o, phases in open_now.items() if phases.get(Phase.WAITING)]
    if room <= 0 or not with_waiting:
        return
    mine = Delivery.objects.of_occurrences(with_waiting).exclude(
        in_freeze(CommandTemplate(schedule.template), now, "device_id")
    )
    waiting = list(mine.waiting().values_list("device_id", flat=True))
    busy = Delivery.objects.busy_devices(waiting)
    free = list(mine.free_to_offer(now, busy).values_list("id", "not_after")[:room])
    for until in sorted({end for _, end in free}):
        deliveries.offer([pk for pk, end in free if end == until], until=until, now=now)


def _end_if_over(schedule: Schedule, now: datetime) -> None:
    """A command that ran once, or whose last day is past, ends when nothing of it is open."""
    over = schedule.when == When.NOW or (schedule.until is not None and now.date() > schedule.until + timedelta(days=1))
    if over and not Delivery.objects.of_schedule(schedule.pk).open().exists():
        Schedule.objects.filter(pk=schedule.pk, state=ScheduleState.ACTIVE).update(state=ScheduleState.ENDED)
        _note(schedule, f"Ended by itself: {schedule_sentence(schedule)}", None, now)
