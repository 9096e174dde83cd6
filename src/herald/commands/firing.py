"""Firing: a schedule's devices of this moment, written as one occurrence with a delivery for each."""

import zlib
from collections.abc import Collection, Iterator, Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from django.db import transaction
from django.db.models import Q

from herald.commands.models import LOCAL_FORM, FreezeChoice, LateChoice, Occurrence, OverlapChoice, Schedule
from herald.commands.reach import audience_among, in_freeze
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.groups.audience import audience_query
from herald.live.notify import notify
from herald_core.deliveries import Event, Kind, Phase
from herald_core.timing.firings import LATE_FOR, Firing, firings, firings_within, spread_seconds
from herald_core.timing.windows import DEVICE_CLOCK

if TYPE_CHECKING:
    from herald.commands.compose import ScheduleDraft
    from herald.fleet.querysets import DeviceQuerySet

#: Zone of an occurrence that fires for all devices at one moment.
EVERYWHERE = "*"
NOBODY = "Its audience has no admitted device whose firmware can do it, so it is for nobody."
#: the zone in which a day ends last
LAST_ZONE = "Etc/GMT+12"


def firings_of(schedule: "Schedule | ScheduleDraft", zone: str, *, after: datetime) -> Iterator[Firing] | None:
    """The firings of a schedule for devices in a zone, later than `after`; None for one that runs now."""
    recurrence = schedule.recurrence
    if recurrence is None:
        return None
    return firings(recurrence, zone if schedule.clock == DEVICE_CLOCK else schedule.clock, after=after)


def firings_in(
    schedule: Schedule, zones: Collection[str], *, start: datetime, end: datetime
) -> dict[str, list[Firing]]:
    """The firings of a schedule in [start, end) for devices in each of some zones; none of one that runs now."""
    recurrence = schedule.recurrence
    if recurrence is None:
        return {zone: [] for zone in zones}
    clock_of = {zone: zone if schedule.clock == DEVICE_CLOCK else schedule.clock for zone in zones}
    found = firings_within(recurrence, clock_of.values(), start=start, end=end)
    return {zone: found[clock] for zone, clock in clock_of.items()}


def fire_due(schedule: Schedule, zones: Sequence[str], now: datetime) -> datetime | None:
    """Fire what is due since it was last looked at; the next firing of all zones, None where there is none."""
    ahead: list[datetime] = []
    for zone in zones if schedule.clock == DEVICE_CLOCK else [EVERYWHERE]:
        for firing in firings_of(schedule, zone, after=schedule.fired_through) or ():
            if firing.at > now:
                ahead.append(firing.at)
                break
            fire(schedule, zone, firing.at, now=now, local=firing.local)
    following, digest = min(ahead, default=None), digest_of(zones)
    schedule.fired_through, schedule.quiet_until, schedule.quiet_zones = now, following, digest
    Schedule.objects.filter(pk=schedule.pk).update(fired_through=now, quiet_until=following, quiet_zones=digest)
    return following


def is_due(schedule: Schedule, digest: int, now: datetime) -> bool:
    """Whether something may fire: its next firing is there or not known, or devices are in other zones than they were
    when it was looked for; `digest` is that of the zones of now."""
    return schedule.quiet_until is None or schedule.quiet_until <= now or schedule.quiet_zones != digest


def digest_of(zones: Sequence[str]) -> int:
    """A number that stands for these zones."""
    return zlib.crc32("\n".join(zones).encode())


def fire(schedule: Schedule, zone: str, fires_at: datetime, *, now: datetime, local: datetime | None = None) -> int:
    """Write an occurrence and its deliveries for the audience of this moment; how many devices.

    `local` is the time of the rule that it stands for. Safe to repeat: an occurrence that exists is left as it is.
    Whoever fires holds the schedule's lock, so no other process does the same meanwhile.
    """
    local_time = local.strftime(LOCAL_FORM) if local else ""
    expires_at = fires_at + timedelta(minutes=schedule.expires_after_minutes)
    with transaction.atomic():
        known: Occurrence | None = Occurrence.objects.filter(schedule=schedule, zone=zone, fires_at=fires_at).first()
        if known is not None:
            return int(known.audience)
        here = Q() if zone == EVERYWHERE else Q(time_zone=zone)
        whom = audience_among(schedule.template, audience_query(schedule))
        able, frozen = whom.able.filter(here), 0
        able = _not_fired_before(able, schedule, local_time)
        if schedule.freezes == FreezeChoice.DROP:
            held = in_freeze(schedule.template, fires_at)
            frozen, able = able.filter(held).count(), able.exclude(held)
        devices = list(able.order_by("id").values_list("id", "uid"))
        busy = _make_room(schedule, [pk for pk, _ in devices], now)
        if schedule.overlap == OverlapChoice.SKIP:
            devices = [(pk, uid) for pk, uid in devices if pk not in busy]
        occurrence = Occurrence.objects.create(
            schedule=schedule,
            zone=zone,
            fires_at=fires_at,
            template_id=schedule.template_id,
            parameters=schedule.parameters,
            local_time=local_time,
            expires_at=expires_at,
            audience=len(devices),
            frozen=frozen,
            overlapping=len(busy) if schedule.overlap == OverlapChoice.SKIP else 0,
            unsupported_count=whom.unable.filter(here).count(),
        )
        _write_deliveries(schedule, occurrence, devices, now)
        notify("schedule", schedule.pk)
    return len(devices)


def _not_fired_before(able: "DeviceQuerySet", schedule: Schedule, local_time: str) -> "DeviceQuerySet":
    """Without devices that this firing was for already, in the zone where they were then."""
    if not local_time:
        return able
    same = list(Occurrence.objects.filter(schedule=schedule, local_time=local_time).values_list("pk", flat=True))
    if not same:
        return able
    return able.exclude(pk__in=Delivery.objects.of_occurrences(same).order_by().values("device_id"))


def _make_room(schedule: Schedule, device_ids: Sequence[int], now: datetime) -> set[int]:
    """Take back the firings before for these devices, as far as none has begun; those that are still at one."""
    before = Delivery.objects.of_schedule(schedule.pk).open().filter(device_id__any=list(device_ids))
    if not before.exists():
        return set()
    not_begun = before.filter(phase__in=[Phase.WAITING.value, Phase.OFFERED.value])
    deliveries.move(not_begun, Event.SUPERSEDE, now=now, cause="the next firing took its place")
    return set(before.order_by().values_list("device_id", flat=True))


def _write_deliveries(
    schedule: Schedule, occurrence: Occurrence, devices: Sequence[tuple[int, str]], now: datetime
) -> None:
    spread = timedelta(minutes=schedule.spread_minutes)
    not_after = occurrence.expires_at + (LATE_FOR if schedule.late == LateChoice.RUN else timedelta(0))
    phase = Phase.EXPIRED if now >= not_after else Phase.WAITING
    key = f"schedule-{schedule.pk}"
    like = Delivery(
        kind=Kind.COMMAND.value,
        occurrence=occurrence,
        phase=phase.value,
        phase_since=now,
        created_at=now,
        not_after=not_after,
    )
    deliveries.write_alike(
        like, ((pk, occurrence.fires_at + timedelta(seconds=spread_seconds(key, uid, spread))) for pk, uid in devices)
    )


def fires_again(schedule: Schedule, now: datetime) -> bool:
    """Whether it would fire again, were there a device: asked of the zone in which its last day ends last."""
    zone = LAST_ZONE if schedule.clock == DEVICE_CLOCK else EVERYWHERE
    ahead = firings_of(schedule, zone, after=min(now, schedule.fired_through))
    return ahead is not None and next(ahead, None) is not None
