"""A scheduled command as it is watched."""

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from herald.attention.models import Part, Quarantine
from herald.commands.compose import ZoneFirings, firings_by_zone
from herald.commands.firing import fires_again
from herald.commands.models import LOCAL_FORM, CommandTemplate, Detail, Occurrence, Schedule, ScheduleState, When
from herald.commands.reach import Reach, reach_of
from herald.commands.sentence import sentence_parts
from herald.commands.tallies import phases_kept
from herald.commands.templates import verb_phrase
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import counted, unheard_words, wait_words
from herald.groups.audience import named_count
from herald_core.parameters import shown
from herald_core.schedules import ScheduleSight, ScheduleStatus, schedule_status

RECENT = 40
#: of a command that is paused or has ended
NOT_ACTIVE = Reach(zones=(), now=0)


def rows(schedules: Sequence[Schedule], now: datetime) -> list[dict[str, Any]]:
    """Schedules with their latest firings and how those went."""
    quarantined = Quarantine.objects.causes_of(Part.SCHEDULE, [s.pk for s in schedules])
    unheard = Delivery.objects.unheard_by_schedule([s.pk for s in schedules], now)
    reach = reach_of([s for s in schedules if s.state == ScheduleState.ACTIVE], now=now)
    recent: dict[int, list[Occurrence]] = defaultdict(list)
    for occurrence in Occurrence.objects.recent([s.pk for s in schedules], RECENT):
        recent[occurrence.schedule_id].append(occurrence)
    phases: dict[int, Counter[str]] = defaultdict(Counter)
    shown = [o for of_one in recent.values() for o in of_one]
    whole = [o.pk for o in shown if o.detail == Detail.WHOLE]
    for occurrence_id, phase, count in Delivery.objects.counts_by_occurrence(whole):
        phases[occurrence_id][phase] += count
    phases.update({o.pk: phases_kept(o) for o in shown if o.detail != Detail.WHOLE})
    return [
        _row(s, recent[s.pk], phases, reach.get(s.pk, NOT_ACTIVE), quarantined.get(s.pk, ""), unheard.get(s.pk, 0), now)
        for s in schedules
    ]


def _row(
    schedule: Schedule,
    recent: Sequence[Occurrence],
    phases: Mapping[int, Counter[str]],
    reach: Reach,
    quarantined: str,
    unheard: int,
    now: datetime,
) -> dict[str, Any]:
    upcoming = next_firings(schedule, reach, now)
    counts = sum((phases[o.pk] for o in recent), Counter[str]())
    seen = ScheduleSight(
        state=schedule.state,
        phases=counts,
        unheard=unheard,
        reached=reach.now,
        fires_again=bool(upcoming) or (not reach.now and fires_again(schedule, now)),
        quarantined=bool(quarantined),
    )
    return {
        "id": schedule.pk,
        "template": template_row(schedule.template),
        "name": schedule.name,
        "reason": schedule.reason,
        "ticket": schedule.ticket,
        "parameters": shown(schedule.template.schema, schedule.parameters),
        "clock": schedule.clock,
        "starts_on": schedule.starts_on,
        "rule": schedule.rule,
        "excluded": schedule.excluded,
        "spread_minutes": schedule.spread_minutes,
        "expires_after_minutes": schedule.expires_after_minutes,
        "max_concurrent": schedule.max_concurrent,
        "at_once_per_site": schedule.at_once_per_site,
        "late": schedule.late,
        "overlap": schedule.overlap,
        "revision": schedule.revision,
        "approved_by": str(schedule.approved_by) if schedule.approved_by else None,
        "sentence": sentence_parts(schedule),
        "state": schedule.state,
        "status": _status(seen, quarantined),
        "quarantined": quarantined,
        "when": schedule.when,
        "freezes": schedule.freezes,
        "reached_now": reach.now,
        "include": [{"id": g.pk, "name": g.name} for g in schedule.include.all()],
        "exclude": [{"id": g.pk, "name": g.name} for g in schedule.exclude.all()],
        "include_device_count": named_count(schedule),
        "time_of_day": schedule.time_of_day,
        "created_at": schedule.created_at,
        "created_by": str(schedule.created_by) if schedule.created_by else None,
        "next_firing": upcoming[0].firings[0].at if upcoming else None,
        "next_zone": upcoming[0].zone if upcoming else None,
        "next_local_time": upcoming[0].firings[0].local.strftime(LOCAL_FORM) if upcoming else "",
        "phases": dict(counts),
        "occurrences": [
            {
                "id": o.pk,
                "zone": o.zone,
                "fires_at": o.fires_at,
                "expires_at": o.expires_at,
                "local_time": o.local_time,
                "audience": o.audience,
                "unsupported_count": o.unsupported_count,
                "frozen": o.frozen,
                "overlapping": o.overlapping,
                "only_totals": o.detail != Detail.WHOLE,
                "phases": dict(phases[o.pk]),
            }
            for o in recent
        ],
    }


def _status(seen: ScheduleSight, quarantined: str) -> dict[str, Any]:
    status, devices = schedule_status(seen)
    words = {
        ScheduleStatus.ENDED: "Ended",
        ScheduleStatus.PROPOSED: "Waits for a second person to approve it",
        ScheduleStatus.QUARANTINED: f"In quarantine, work on it fails: {quarantined}",
        ScheduleStatus.PAUSED: "Paused",
        ScheduleStatus.MOVING: f"{counted(devices)} at it now",
        ScheduleStatus.UNHEARD: unheard_words(devices),
        ScheduleStatus.OFFERED: f"Offered to {counted(devices)}, at the next check-in",
        ScheduleStatus.WAITING: f"{wait_words(devices)} to be offered it",
        ScheduleStatus.NOBODY: "For no device now",
        ScheduleStatus.NEXT: f"Waits for its next firing, for {counted(devices)}",
        ScheduleStatus.DONE: "Will not fire again",
    }
    return {"code": status.value, "words": words[status], "devices": devices}


def next_firings(schedule: Schedule, reach: Reach, now: datetime) -> list[ZoneFirings]:
    """The next firing in each zone of those whom it reaches, soonest first."""
    if schedule.when == When.NOW:
        return []
    return [z for z in firings_by_zone(schedule, reach.zones, now=now, count=1) if z.firings]


def template_row(template: CommandTemplate) -> dict[str, Any]:
    """A command template, as the API shows it."""
    return {
        "key": template.key,
        "name": template.name,
        "phrase": verb_phrase(template),
        "note": template.note,
        "action": template.action,
        "action_name": template.action_name,
        "schema": template.schema,
        "harm": template.harm,
        "minutes": template.minutes,
        "is_built_in": template.is_built_in,
        "is_retired": template.retired_at is not None,
        "models": [
            {"id": o.model_id, "name": o.model.name, "from_version": o.from_version, "to_version": o.to_version}
            for o in template.offered_by.all()
        ],
    }
