"""One turn of the clock for all schedules: fire what is due, offer what waits, end what is over."""

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime

from django.db import transaction

from herald.attention.models import Part
from herald.attention.quarantine import Isolation
from herald.commands.compose import note
from herald.commands.firing import digest_of, fire_due, fires_again, is_due
from herald.commands.models import Occurrence, Schedule, ScheduleState, When
from herald.commands.reach import in_freeze
from herald.commands.sentence import schedule_sentence
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.deliveries.time_outs import end_unheard
from herald.fleet.models import Device
from herald_core.deliveries import ACTIVE, Kind, Phase


def turn_schedules(*, now: datetime, isolation: Isolation | None = None) -> datetime | None:
    """One turn of the clock for all schedules. The next firing of any."""
    isolation = isolation or Isolation(now)
    active = list(Schedule.objects.active())
    zones = Device.objects.zones() if active else []
    digest = digest_of(zones)
    open_now = _open_by_schedule()
    following: list[datetime] = []

    for schedule in active:

        def work(schedule: Schedule = schedule) -> None:
            open_of_it = open_now.get(schedule.pk, {})
            looked_at = schedule.when != When.NOW and is_due(schedule, digest, now)
            if looked_at or any(phases.get(Phase.WAITING) for phases in open_of_it.values()):
                with transaction.atomic():
                    fresh = Schedule.objects.locked().filter(pk=schedule.pk, state=ScheduleState.ACTIVE).first()
                    if fresh is None:
                        return  # it was paused or ended since this turn began
                    schedule = fresh
                    if looked_at:
                        fire_due(schedule, zones, now)
                        open_of_it = _open_by_schedule(schedule.pk).get(schedule.pk, {})
                    _offer(schedule, open_of_it, now)
            if schedule.quiet_until is not None:
                following.append(schedule.quiet_until)
            if looked_at or schedule.when == When.NOW:
                _end_if_over(schedule, open_of_it, now)

        isolation.run(Part.SCHEDULE, schedule.pk, work)
    if open_now:
        end_unheard(Kind.COMMAND, isolation)
    return min(following, default=None)


def _open_by_schedule(only: int | None = None) -> dict[int, dict[int, dict[str, int]]]:
    """For each schedule its occurrences with open deliveries, and how many are in each phase."""
    counted = Delivery.objects.open_commands() if only is None else Delivery.objects.of_schedule(only).open_commands()
    schedules = Occurrence.objects.schedules_of({occurrence for occurrence, _, _ in counted})
    found: dict[int, dict[int, dict[str, int]]] = {}
    for occurrence, phase, count in counted:
        found.setdefault(schedules[occurrence], {}).setdefault(occurrence, {})[phase] = count
    return found


def _offer(schedule: Schedule, open_now: Mapping[int, Mapping[str, int]], now: datetime) -> None:
    """Offer what waits, of the occurrences that have something open."""
    in_hand = sum(n for phases in open_now.values() for phase, n in phases.items() if phase in ACTIVE)
    room = schedule.max_concurrent - in_hand
    with_waiting = [o for o, phases in open_now.items() if phases.get(Phase.WAITING)]
    if room <= 0 or not with_waiting:
        return
    mine = Delivery.objects.of_occurrences(with_waiting).exclude(in_freeze(schedule.template, now, "device_id"))
    waiting = list(mine.waiting().values_list("device_id", flat=True))
    free = mine.free_to_offer(now, Delivery.objects.busy_devices(waiting))
    if schedule.at_once_per_site is None:
        chosen = list(free.values_list("id", "not_after")[:room])
    else:
        chosen = _within_sites(schedule, list(free.values_list("id", "not_after", "device__site_id")), room)
    for until in sorted({end for _, end in chosen}):
        deliveries.offer([pk for pk, end in chosen if end == until], until=until, now=now)


def _within_sites(
    schedule: Schedule, free: Sequence[tuple[int, datetime, int | None]], room: int
) -> list[tuple[int, datetime]]:
    """Those of the free ones that the cap of their site lets through; a device without a site has a site of its own."""
    cap = schedule.at_once_per_site or 0
    chosen: list[tuple[int, datetime]] = []
    mine = Delivery.objects.of_schedule(schedule.pk).in_hand().filter(device__site__isnull=False).order_by()
    at_site = Counter(mine.values_list("device__site_id", flat=True))
    for pk, not_after, site in free:
        if len(chosen) >= room:
            break
        if site is not None:
            if at_site[site] >= cap:
                continue
            at_site[site] += 1
        chosen.append((pk, not_after))
    return chosen


def _end_if_over(schedule: Schedule, open_now: Mapping[int, Mapping[str, int]], now: datetime) -> None:
    """A command that ran now, or that fires in no zone any more, ends when nothing of it is open."""
    if open_now or fires_again(schedule, now) or Delivery.objects.of_schedule(schedule.pk).open().exists():
        return
    if Schedule.objects.filter(pk=schedule.pk, state=ScheduleState.ACTIVE).update(state=ScheduleState.ENDED):
        note(schedule, f"Ended by itself: {schedule_sentence(schedule)}", None, now)
