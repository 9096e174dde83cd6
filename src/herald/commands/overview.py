"""A scheduled command as it is watched."""

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from herald.attention.models import Part, Quarantine
from herald.commands.models import HARM, CommandTemplate, Occurrence, Schedule, ScheduleState, When
from herald.commands.reach import Reach, reach_of
from herald.commands.sentence import sentence_parts
from herald.commands.services import firings_by_zone
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import counted, unheard_words, wait_words
from herald.groups.audience import named_count
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
    shown = [o.pk for of_one in recent.values() for o in of_one]
    for occurrence_id, phase, count in Delivery.objects.counts_by_occurrence(shown):
        phases[occurrence_id][phase] += count
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
        fires_again=bool(upcoming) or (not reach.now and _fires_again(schedule, now)),
        quarantined=bool(quarantined),
    )
    return {
        "id": schedule.pk,
        "template": schedule.template,
        "sentence": sentence_parts(schedule),
        "state": schedule.state,
        "status": _status(seen, quarantined),
        "quarantined": quarantined,
        "when": schedule.when,
        "harm": HARM[CommandTemplate(schedule.template)].value,
        "freezes": schedule.freezes,
        "reached_now": reach.now,
        "include": [{"id": g.pk, "name": g.name} for g in schedule.include.all()],
        "exclude": [{"id": g.pk, "name": g.name} for g in schedule.exclude.all()],
        "include_device_count": named_count(schedule),
        "time_of_day": schedule.time_of_day,
        "created_at": schedule.created_at,
        "created_by": str(schedule.created_by) if schedule.created_by else None,
        "next_firing": upcoming[0][0] if upcoming else None,
        "next_zone": upcoming[0][1] if upcoming else None,
        "phases": dict(counts),
        "occurrences": [
            {
                "id": o.pk,
                "zone": o.zone,
                "fires_at": o.fires_at,
                "expires_at": o.expires_at,
                "audience": o.audience,
                "unsupported_count": o.unsupported_count,
                "frozen": o.frozen,
                "phases": dict(phases[o.pk]),
            }
            for o in recent
        ],
    }


def _status(seen: ScheduleSight, quarantined: str) -> dict[str, Any]:
    status, devices = schedule_status(seen)
    words = {
        ScheduleStatus.ENDED: "Ended",
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


def _fires_again(schedule: Schedule, now: datetime) -> bool:
    """Whether it would fire again, were there a device: asked of the zone in which its last day ends last."""
    if schedule.when != When.DAILY:
        return False
    return any(zone.firings for zone in firings_by_zone(schedule, [("Etc/GMT+12", 0)], now=now, count=1))


def next_firings(schedule: Schedule, reach: Reach, now: datetime) -> list[tuple[datetime, str, int]]:
    """The next firing in each zone of those whom it reaches: when, where, for how many; soonest first."""
    if schedule.when != When.DAILY:
        return []
    zones = firings_by_zone(schedule, reach.zones, now=now, count=1)
    return [(z.firings[0][0], z.zone, z.devices) for z in zones if z.firings]
