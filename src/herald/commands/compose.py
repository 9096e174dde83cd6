"""Composing a command: its draft, what it would do, making it, and changing what was made."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from itertools import islice
from typing import Any

from django.db import transaction

from herald.commands.firing import EVERYWHERE, LAST_ZONE, NOBODY, fire, fire_due, firings_of
from herald.commands.models import (
    LOCAL_FORM,
    CommandTemplate,
    FreezeChoice,
    LateChoice,
    OverlapChoice,
    Schedule,
    ScheduleState,
    When,
    recurrence_of,
)
from herald.commands.reach import audience_of, reached_now
from herald.commands.sentence import schedule_sentence
from herald.deliveries.conflicts import AudienceConflict, conflicts_with_others
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.groups.audience import named_ids
from herald.groups.models import Group
from herald.http.dates import check_plannable
from herald.http.errors import Conflict, CountMismatch, Invalid, InvalidFields, NobodyThere
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.actions import Harm
from herald_core.parameters import HIDDEN, filled, parameter_problems
from herald_core.preflight import leeway
from herald_core.timing.clocks import Shift, is_zone
from herald_core.timing.firings import Firing
from herald_core.timing.recurrence import Recurrence, RuleError, check_recurrence, read_rule, smallest_gap
from herald_core.timing.windows import DEVICE_CLOCK

MOST_EXCLUDED = 500
LONGEST_MINUTES = 7 * 24 * 60
#: a clock change is looked for so far ahead
CHANGES_AHEAD = timedelta(days=400)


@dataclass(frozen=True, kw_only=True)
class ScheduleDraft:
    """A command as it is written down. `starts_on`, `time_of_day` and `excluded` are local times by `clock`: each
    device's own, or that of a zone."""

    template: CommandTemplate
    parameters: Mapping[str, Any] = field(default_factory=dict)
    name: str = ""
    reason: str = ""
    ticket: str = ""
    include: Sequence[Group] = ()
    exclude: Sequence[Group] = ()
    #: devices that are named, by id
    devices: Sequence[int] = ()
    when: When
    clock: str = DEVICE_CLOCK
    starts_on: date | None = None
    time_of_day: time | None = None
    rule: str = ""
    excluded: Sequence[str] = ()
    spread_minutes: int = 20
    expires_after_minutes: int = 120
    max_concurrent: int = 500
    at_once_per_site: int | None = None
    freezes: FreezeChoice = FreezeChoice.WAIT
    late: LateChoice = LateChoice.DROP
    overlap: OverlapChoice = OverlapChoice.WAIT

    @property
    def recurrence(self) -> Recurrence | None:
        """When it fires, by its clock; None where it runs now."""
        return recurrence_of(self.starts_on, self.time_of_day, self.rule, self.excluded)


@dataclass(frozen=True, kw_only=True)
class ZoneFirings:
    """The next firings in one zone, how many devices of the audience are there now, and the next one to which a clock
    change does something."""

    zone: str
    devices: int
    firings: list[Firing]
    shifted: Firing | None = None


def read_draft(draft: ScheduleDraft, *, now: datetime) -> ScheduleDraft:
    """The draft in the form in which it is kept: its rule in one form, defaults filled, a first day where none is said.

    Raises:
        Invalid: a field does not fit, with what would.
    """
    _check_parameters(draft)
    fields: dict[str, Any] = {"parameters": filled(draft.template.schema, draft.parameters)}
    if draft.when == When.NOW:
        if draft.time_of_day or draft.starts_on or draft.rule or draft.excluded:
            raise Invalid("/when", "A command that runs now has no time, no first day and no rule.")
    else:
        if draft.time_of_day is None:
            raise Invalid("/time_of_day", "Say at which time of day it fires.")
        if draft.when == When.ONCE and (draft.starts_on is None or draft.rule):
            raise Invalid("/starts_on", "A command that runs once has a day and no rule.")
        check_plannable(draft.starts_on, "/starts_on")
        fields |= {
            "time_of_day": draft.time_of_day.replace(second=0, microsecond=0, tzinfo=None),
            "starts_on": draft.starts_on or now.astimezone(UTC).date(),
            "excluded": _read_excluded(draft.excluded),
        }
    if draft.when == When.REPEAT:
        try:
            fields["rule"] = read_rule(draft.rule)
        except RuleError as error:
            raise Invalid("/rule", str(error)) from error
    if draft.clock != DEVICE_CLOCK and not is_zone(draft.clock):
        raise Invalid("/clock", f"{draft.clock[:60]} is no time zone; “{DEVICE_CLOCK}” is each device’s own clock.")
    draft = ScheduleDraft(**{**draft.__dict__, **fields})
    _check_pace(draft)
    return draft


def _check_parameters(draft: ScheduleDraft) -> None:
    problems = parameter_problems(draft.template.schema, filled(draft.template.schema, draft.parameters))
    if problems:
        raise InvalidFields([(f"/parameters{place}", words) for place, words in problems])


def _read_excluded(texts: Sequence[str]) -> list[str]:
    if len(texts) > MOST_EXCLUDED:
        raise Invalid("/excluded", f"At most {MOST_EXCLUDED} firings are left out one by one.")
    read = set()
    for index, text in enumerate(texts):
        try:
            read.add(datetime.strptime(text[:16], LOCAL_FORM).strftime(LOCAL_FORM))  # noqa: DTZ007  a local time
        except ValueError as error:
            raise Invalid(f"/excluded/{index}", f"{text[:40]} is no local time, like 2026-12-24T05:30.") from error
    return sorted(read)


def _check_pace(draft: ScheduleDraft) -> None:
    if draft.expires_after_minutes <= draft.spread_minutes:
        raise Invalid(
            "/expires_after_minutes", "It must give up later than the spread, or the last devices get no chance."
        )
    if draft.expires_after_minutes > LONGEST_MINUTES:
        raise Invalid("/expires_after_minutes", "It must give up within 7 days.")
    recurrence = draft.recurrence
    if recurrence is None:
        return
    try:
        check_recurrence(recurrence)
    except RuleError as error:
        raise Invalid("/rule" if draft.rule else "/starts_on", str(error)) from error
    gap = smallest_gap(recurrence)
    if gap is not None and timedelta(minutes=draft.expires_after_minutes) > gap:
        most = int(gap / timedelta(minutes=1))
        raise Invalid("/expires_after_minutes", f"It must give up within {most} minutes, before the next firing.")


def check_new(draft: ScheduleDraft, *, now: datetime) -> ScheduleDraft:
    """The draft of a new command as it is kept.

    Raises:
        Invalid: a field does not fit, or it would never fire.
    """
    draft = read_draft(draft, now=now)
    if draft.template.retired_at is not None:
        raise Invalid("/template", f"“{draft.template.name}” is offered no more.")
    zone = LAST_ZONE if draft.clock == DEVICE_CLOCK else draft.clock
    if draft.when != When.NOW and not firings_by_zone(draft, [(zone, 0)], now=now, count=1)[0].firings:
        where = "/rule" if draft.rule else "/starts_on"
        raise Invalid(where, "All of its firings are past everywhere, so it would never fire.")
    if draft.template.harm == Harm.DESTRUCTIVE and not draft.reason.strip():
        raise Invalid("/reason", "A destructive command needs a reason.")
    return draft


def preview_firings(draft: ScheduleDraft, *, now: datetime, count: int = 10) -> list[ZoneFirings]:
    """The next firings per zone of the audience. Each with what a clock change does to it, if anything.

    Raises:
        Invalid: a field does not fit.
    """
    draft = read_draft(draft, now=now)
    zones = audience_of(draft).able.value_counts("time_zone", 100)
    return firings_by_zone(draft, zones, now=now, count=count, with_changes=True)


def firings_by_zone(
    draft: "ScheduleDraft | Schedule",
    zones: Iterable[tuple[str, int]],
    *,
    now: datetime,
    count: int,
    with_changes: bool = False,
) -> list[ZoneFirings]:
    """The next firings in zones with so many devices each, the zone where it fires first before the others."""
    result = []
    for zone, devices in zones:
        ahead = firings_of(draft, zone, after=now)
        if ahead is None:
            moment = now.astimezone(UTC)
            found = [Firing(local=moment.replace(tzinfo=None), at=moment, shift=Shift.NONE)]
        else:
            found = list(islice(ahead, count))
        shifted = _next_shifted(draft, zone, now) if with_changes else None
        result.append(ZoneFirings(zone=zone, devices=devices, firings=found, shifted=shifted))
    return sorted(result, key=lambda z: z.firings[0].at if z.firings else now)


def _next_shifted(draft: "ScheduleDraft | Schedule", zone: str, now: datetime) -> Firing | None:
    for firing in firings_of(draft, zone, after=now) or ():
        if firing.at > now + CHANGES_AHEAD:
            return None
        if firing.shift is not Shift.NONE:
            return firing
    return None


def conflicts_of(draft: ScheduleDraft, *, now: datetime, apart: int | None = None) -> list[AudienceConflict]:
    """What else wants the devices of a command: open rollouts, and other commands; a twin of it among them. `apart` is
    the schedule that the draft is a change of."""
    found = conflicts_with_others(audience_of(draft).able.order_by(), now)
    return [c for c in found if (c.kind, c.id) != ("schedule", apart)]


def create_schedule(
    draft: ScheduleDraft, *, actor: User | None, now: datetime, expected: int | None = None
) -> Schedule:
    """A new command; one that runs now fires at once, unless it waits for a second person. `expected` is the number of
    devices that somebody was shown and typed, for one that runs now or is destructive; None is the system itself.

    Raises:
        Invalid: a field does not fit.
        NobodyThere: it would run now, for nobody.
        CountMismatch: `expected` is asked for, and is another number.
    """
    draft = check_new(draft, now=now)
    if expected is not None and (draft.when == When.NOW or draft.template.harm == Harm.DESTRUCTIVE):
        check_count(draft.template, reached_now(draft, now=now), expected)
    with transaction.atomic():
        if not draft.include and not draft.devices:
            raise NobodyThere("No group and no device was chosen, so it is for nobody.")
        state = ScheduleState.PROPOSED if needs_second(draft) else ScheduleState.ACTIVE
        schedule = Schedule(created_at=now, created_by=actor, fired_through=now, state=state)
        _write(schedule, draft)
        if state == ScheduleState.ACTIVE and draft.when == When.NOW and fire(schedule, EVERYWHERE, now, now=now) == 0:
            raise NobodyThere(NOBODY)
        verb = "Proposed" if state == ScheduleState.PROPOSED else "Made"
        note(schedule, f"{verb} the command: {schedule_sentence(schedule)}", actor, now)
    return schedule


def needs_second(draft: ScheduleDraft) -> bool:
    """Whether a second person must agree: a destructive command for more than one device, or for groups, which may
    have more by the time it fires."""
    return draft.template.harm == Harm.DESTRUCTIVE and (bool(draft.include) or len(draft.devices) > 1)


def change_schedule(
    schedule: Schedule, draft: ScheduleDraft, *, revision: int, actor: User | None, now: datetime
) -> Schedule:
    """Put this draft in place of what a schedule was. What has fired already stays as it was ordered.

    Raises:
        Invalid: a field does not fit.
        Conflict: it has ended, ran now, or is not the revision that was read.
    """
    draft = check_new(draft, now=now)
    if draft.when == When.NOW:
        raise Invalid("/when", "A schedule fires at a time or by a rule; to run it now, use “Run once now”.")
    with transaction.atomic():
        schedule = Schedule.objects.locked().get(pk=schedule.pk)
        if schedule.state == ScheduleState.ENDED or schedule.when == When.NOW:
            raise Conflict("It has run or ended, and is not changed any more.", state=schedule.state)
        if schedule.revision != revision:
            raise Conflict(
                f"Somebody changed it meanwhile: it is at revision {schedule.revision}, you read {revision}. "
                "Look at what it is now, then change it again.",
                revision=schedule.revision,
            )
        if not draft.include and not draft.devices:
            raise NobodyThere("No group and no device was chosen, so it is for nobody.")
        before = schedule_sentence(schedule)
        kept = _with_kept_secrets(draft, schedule)
        if schedule.state == ScheduleState.ACTIVE:
            fire_due(schedule, Device.objects.zones(), now)  # what is due by the old rule is not lost
        schedule.fired_through, schedule.revision, schedule.quiet_until = now, schedule.revision + 1, None
        if needs_second(kept):
            schedule.state, schedule.approved_by = ScheduleState.PROPOSED, None
        elif schedule.state == ScheduleState.PROPOSED:
            schedule.state = ScheduleState.ACTIVE
        _write(schedule, kept)
        after = schedule_sentence(schedule)
        note(schedule, f"Changed the command to: {after}", actor, now, before={"is": before}, after={"is": after})
    return schedule


def _with_kept_secrets(draft: ScheduleDraft, schedule: Schedule) -> ScheduleDraft:
    """Where a secret is sent back as it is shown, the one that is kept."""
    same = draft.template.key == schedule.template_id
    parameters = {k: schedule.parameters.get(k, v) if v == HIDDEN and same else v for k, v in draft.parameters.items()}
    return ScheduleDraft(**{**draft.__dict__, "parameters": parameters})


def _write(schedule: Schedule, draft: ScheduleDraft) -> None:
    """Write the draft's fields and audience to a schedule."""
    for name in _FIELDS:
        setattr(schedule, name, getattr(draft, name))
    schedule.save()
    schedule.include.set(draft.include)
    schedule.exclude.set(draft.exclude)
    schedule.devices.set(draft.devices)


#: what a draft and a schedule have by the same name, besides the audience
_FIELDS = (
    "template", "parameters", "name", "reason", "ticket", "when", "clock", "starts_on", "time_of_day", "rule",
    "excluded", "spread_minutes", "expires_after_minutes", "max_concurrent", "at_once_per_site", "freezes", "late",
    "overlap",
)  # fmt: skip


def draft_of(schedule: Schedule) -> ScheduleDraft:
    """A schedule as it was written down."""
    return ScheduleDraft(
        **{name: getattr(schedule, name) for name in _FIELDS},
        include=list(schedule.include.all()),
        exclude=list(schedule.exclude.all()),
        devices=named_ids(schedule),
    )


def open_deliveries(schedule: Schedule) -> dict[str, int]:
    """How many devices have a firing of it waiting, and how many are at one: a change touches neither."""
    mine = Delivery.objects.of_schedule(schedule.pk)
    return {"waiting": mine.waiting().count(), "in_hand": mine.in_hand().count()}


def check_count(template: CommandTemplate, reached: int, expected: int) -> None:
    """Refuse a command that is not gentle for another number of devices than was typed.

    Raises:
        CountMismatch: with the number that it would be for.
    """
    if template.harm != Harm.GENTLE and reached and abs(expected - reached) > leeway(reached):
        message = f"It would run on {reached} devices, and {expected} was typed. Type the number that is shown."
        raise CountMismatch(message, reached=reached)


def note(schedule: Schedule, sentence: str, actor: User | None, now: datetime, **more: Any) -> None:
    """Put a sentence about the schedule on record, and tell browsers."""
    record(now=now, actor=actor, kind="schedule", object_id=schedule.pk, sentence=sentence, **more)
    notify("schedule", schedule.pk)
