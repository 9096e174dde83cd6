"""What happens by itself within a day: firings, windows that open, rings that are expected to, freezes that begin and
end."""

from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from herald.agenda.firings import planned
from herald.agenda.freezes import freezes_within
from herald.agenda.rollouts import RolloutPlan, rollouts_within
from herald.agenda.rows import RowKind, Rows
from herald.commands.firing import EVERYWHERE
from herald.commands.models import Schedule
from herald.commands.sentence import schedule_sentence
from herald.deliveries.waiting import counted
from herald.rollouts.watch.overview import whom
from herald.rollouts.watch.sentence import short_words
from herald_core.timing.clocks import city

DAY = timedelta(days=1)


class ComingKind(StrEnum):
    """What comes."""

    FIRING = "firing"
    WINDOW = "window"
    RING = "ring"
    FREEZE = "freeze"
    THAW = "thaw"


@dataclass(frozen=True, kw_only=True)
class Coming:
    """Something that will happen at a moment, in a zone or everywhere; `id` is of the rollout, schedule or freeze."""

    at: datetime
    kind: ComingKind
    id: int
    zone: str
    text: str
    detail: str
    devices: int


def coming_up(*, now: datetime, rows: Rows | None = None, within: timedelta = DAY, each: int = 1) -> list[Coming]:
    """What happens by itself to the devices of some rows, or to all, soonest first. Of what comes again within the
    time, the first `each` times."""
    rows, end = rows or Rows(RowKind.ZONE), now + within
    found = [*_firings(rows, now, end, each)]
    for plan in rollouts_within(rows, start=now, end=end, now=now):
        found += [*_windows(plan, now, each), *_rings(plan, now, end)]
    for freeze in freezes_within(rows, start=now, end=end):
        time, devices = freeze.time, sum(freeze.devices.values())
        if not devices:
            continue
        for at, kind, verb in ((time.starts_at, ComingKind.FREEZE, "begins"), (time.ends_at, ComingKind.THAW, "ends")):
            if now <= at < end:
                detail = f"holds {counted(devices)}"
                text = f"Freeze “{time.name}” {verb}"
                found.append(
                    Coming(at=at, kind=kind, id=time.pk, zone=EVERYWHERE, text=text, detail=detail, devices=devices)
                )
    return sorted(found, key=lambda c: (c.at, c.text))


def _firings(rows: Rows, now: datetime, end: datetime, each: int) -> list[Coming]:
    found = []
    for plan in planned(list(Schedule.objects.planned()), rows, start=now, end=end):
        sentence = schedule_sentence(plan.schedule)
        for (_, zone), n in plan.cells.items():
            for firing in plan.firings[zone][:each]:
                found.append(
                    Coming(
                        at=firing.at,
                        kind=ComingKind.FIRING,
                        id=plan.schedule.pk,
                        zone=zone,
                        text=f"{plan.schedule.title}, {city(zone)}",
                        detail=f"{counted(n)}: {sentence}",
                        devices=n,
                    )
                )
    return found


def _windows(plan: RolloutPlan, now: datetime, each: int) -> list[Coming]:
    """The hours of a rollout that open in each zone; hours that have begun are no news."""
    if plan.rollout.window is None:
        return []
    title, found = short_words(plan.rollout), []
    for zone, spans in plan.windows.items():
        n = sum(left for (row, _), left in plan.left.items() if row == zone)
        for opens in [s.starts_at for s in spans if s.starts_at > now][: each if n else 0]:
            text, detail = f"Window of {title}, {city(zone)}", f"{counted(n)} left there"
            found.append(
                Coming(
                    at=opens, kind=ComingKind.WINDOW, id=plan.rollout.pk, zone=zone, text=text, detail=detail, devices=n
                )
            )
    return found


def _rings(plan: RolloutPlan, now: datetime, end: datetime) -> list[Coming]:
    """The rings that are expected to open; one in which none of the devices is opens for none of them."""
    found = []
    for span in plan.rings:
        n = sum(span.devices.values())
        if n and span.ring.opened_at is None and span.opens_at is not None and now <= span.opens_at < end:
            text = f"Ring {span.ring.position}, {span.ring.name}, of {short_words(plan.rollout)} is expected to open"
            found.append(
                Coming(
                    at=span.opens_at,
                    kind=ComingKind.RING,
                    id=plan.rollout.pk,
                    zone=EVERYWHERE,
                    text=text,
                    detail=f"{counted(n)}, of {whom(plan.rollout)}",
                    devices=n,
                )
            )
    return found
