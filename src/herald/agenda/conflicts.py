"""What in the calendar does not fit together, in words, each with changes that would fix it."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, time, timedelta
from enum import StrEnum
from functools import cached_property
from typing import Any

from django.db.models import Max

from herald.agenda.moves import Move, MoveKind
from herald.calendar.services import freezes_between, held_by
from herald.commands.firing import firings_of
from herald.commands.models import Schedule
from herald.commands.reach import ByZone, able_of, reach_by
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import counted
from herald.fleet.models import Site
from herald.rollouts.models import OPEN_STATES, Rollout
from herald.rollouts.watch.sentence import title_of
from herald_core.actions import Harm
from herald_core.timing.clocks import Shift, city, zone
from herald_core.timing.firings import firings_within
from herald_core.timing.windows import DEVICE_CLOCK, carried, openings, short_openings

#: how far ahead is looked
AHEAD = timedelta(days=60)
#: a command meets installs that are so near
SOON = timedelta(days=14)


class ConflictCode(StrEnum):
    """What does not fit."""

    SKIPPED_HOUR = "skipped_hour"
    DURING_INSTALLS = "during_installs"
    BEFORE_END = "before_end"
    SHORT_WINDOW = "short_window"
    SITE_CAP = "site_cap"
    WANTED_TWICE = "wanted_twice"
    NEVER_AWAKE = "never_awake"


@dataclass(frozen=True, kw_only=True)
class CalendarConflict:
    """One thing that does not fit: what in words, how many devices it is about, the object it is about first, and
    changes of which each would fix it. `key` is the same as long as it is the same conflict."""

    code: ConflictCode
    kind: MoveKind
    id: int
    words: str
    devices: int
    fixes: Sequence[Move] = ()
    key: str = field(default="")


def conflicts_ahead(*, now: datetime) -> list[CalendarConflict]:
    """Everything that does not fit, of what is planned for the next weeks."""
    return _Search(now).run()


class _Search:
    """One look at all that is planned."""

    def __init__(self, now: datetime) -> None:
        self.now = now
        opened = Rollout.objects.listed().filter(state__in=OPEN_STATES).order_by("rank")
        self.rollouts = list(opened)
        self.schedules = list(Schedule.objects.active())

    def run(self) -> list[CalendarConflict]:
        every = (
            self._skipped_hours, self._during_installs, self._before_end, self._short_windows, self._site_caps,
            self._wanted_twice, self._never_awake,
        )  # fmt: skip
        return [conflict for look in every for conflict in look()]

    @cached_property
    def _zones(self) -> Mapping[int, dict[str, int]]:
        """For each schedule, how many devices it is for by time zone."""
        counted_by = reach_by(self.schedules, ByZone())
        return {pk: {zone: n for (zone,), n in found.items()} for pk, found in counted_by.items()}

    @cached_property
    def _needed(self) -> Mapping[int, timedelta]:
        """For each rollout, how long the installs that wait take at the longest; no time where none waits."""
        longest = {r.pk: max(Delivery.objects.of_rollout(r.pk).waiting_minutes(), default=0) for r in self.rollouts}
        return {pk: timedelta(minutes=minutes) for pk, minutes in longest.items()}

    def _skipped_hours(self) -> Iterator[CalendarConflict]:
        for schedule in self.schedules:
            recurrence, zones = schedule.recurrence, self._zones[schedule.pk]
            if recurrence is None or not zones:
                continue
            clocks = zones if schedule.clock == DEVICE_CLOCK else {schedule.clock: sum(zones.values())}
            found = firings_within(recurrence, clocks, start=self.now, end=self.now + AHEAD)
            skipped = [(f.at, name, f) for name, of in found.items() for f in of if f.shift is Shift.SKIPPED]
            for _, name, firing in sorted(skipped, key=lambda s: (s[0], s[1]))[:1]:
                runs = firing.at.astimezone(zone(name))
                words = (
                    f"{_titled(schedule)} would run on {firing.local:%a %-d %b} at {firing.local:%H:%M} in "
                    f"{city(name)}, an hour that the clock change skips. It runs at {runs:%H:%M}, for "
                    f"{counted(clocks[name])}."
                )
                fixes = []
                if not schedule.rule.startswith("FREQ=HOURLY"):
                    new = f"{runs:%H:%M}"
                    fixes = [_move(MoveKind.SCHEDULE, schedule.pk, {"time_of_day": new}, f"Run it at {new} every time")]
                yield _conflict(ConflictCode.SKIPPED_HOUR, MoveKind.SCHEDULE, schedule.pk, words, clocks[name], fixes)

    def _during_installs(self) -> Iterator[CalendarConflict]:
        rollouts = {r.pk: r for r in self.rollouts}
        for schedule in self.schedules if rollouts else ():
            if schedule.template.harm == Harm.GENTLE or schedule.recurrence is None:
                continue
            shared = Delivery.objects.shared_with(list(rollouts), able_of(schedule))
            by_rollout: dict[int, dict[str, int]] = {}
            for rollout_id, zone_name, n in shared:
                by_rollout.setdefault(rollout_id, {})[zone_name] = n
            for pk, zones in by_rollout.items():
                rollout = rollouts[pk]
                until = min(self.now + SOON, _latest_end(rollout) or self.now + SOON)
                meets = {z: n for z, n in zones.items() if self._meets(schedule, rollout, z, until)}
                if not meets:
                    continue
                devices = sum(meets.values())
                words = (
                    f"{_titled(schedule)} at {schedule.time_of_day:%H:%M} meets installs of {_named(rollout)} on "
                    f"{counted(devices)}. A device does one after the other, so that the later may be missed."
                )
                fixes = []
                if rollout.window_end is not None and schedule.clock == DEVICE_CLOCK:
                    new = f"{rollout.window_end:%H:%M}"
                    fixes = [
                        _move(MoveKind.SCHEDULE, schedule.pk, {"time_of_day": new}, f"Run it at {new}, after them")
                    ]
                code = ConflictCode.DURING_INSTALLS
                yield _conflict(code, MoveKind.SCHEDULE, schedule.pk, words, devices, fixes, beside=pk)

    def _meets(self, schedule: Schedule, rollout: Rollout, zone_name: str, until: datetime) -> bool:
        spread = timedelta(minutes=schedule.spread_minutes)
        for firing in firings_of(schedule, zone_name, after=self.now) or ():
            if firing.at >= until:
                return False
            if openings(rollout.window, zone_name, start=firing.at, end=firing.at + max(spread, timedelta(minutes=1))):
                return True
        return False

    def _before_end(self) -> Iterator[CalendarConflict]:
        freezes = freezes_between(self.now, self.now + AHEAD)
        for rollout in self.rollouts:
            forecast = rollout.current_forecast
            if rollout.ignores_freezes or forecast is None:
                continue
            for freeze in freezes:
                if freeze.starts_at <= self.now or (forecast.median and forecast.median <= freeze.starts_at):
                    continue
                mine = Delivery.objects.of_rollout(rollout.pk).open()
                held = mine.filter(held_by(freeze, "device_id")).count()
                if held:
                    ends = f"expected on {forecast.median:%-d %b %H:%M} UTC" if forecast.median else "not in sight"
                    words = (
                        f"The freeze “{freeze.name}” begins on {freeze.starts_at:%-d %b %H:%M} UTC, before the end of "
                        f"{_named(rollout)}, which is {ends}. It holds {counted(held)} that are not through."
                    )
                    code = ConflictCode.BEFORE_END
                    yield _conflict(
                        code, MoveKind.ROLLOUT, rollout.pk, words, held, _quicker(rollout), beside=freeze.pk
                    )
                    break

    def _short_windows(self) -> Iterator[CalendarConflict]:
        for rollout in self.rollouts:
            window, end, needed = rollout.window, rollout.expires_at, self._needed[rollout.pk]
            if window is None or not needed:
                continue
            until = min(self.now + AHEAD, _latest_end(rollout) or end, end)
            for zone_name, n in sorted(Delivery.objects.left_by_zone(rollout.pk)):
                short = short_openings(window, zone_name, needed, start=self.now, end=until)
                for day, length in short[:1]:
                    words = (
                        f"On {day:%a %-d %b} the clock change leaves {_minutes(length)} of the window of "
                        f"{_named(rollout)} in {city(zone_name)}; an install takes {_minutes(needed)}. "
                        f"None of {counted(n)} begins there that day."
                    )
                    code = ConflictCode.SHORT_WINDOW
                    fixes = [_wider(rollout, before=0, after=2)]
                    yield _conflict(code, MoveKind.ROLLOUT, rollout.pk, words, n, fixes, beside=zone_name)

    def _site_caps(self) -> Iterator[CalendarConflict]:
        names = dict(Site.objects.values_list("pk", "name"))
        for rollout in self.rollouts:
            cap, end, needed = rollout.max_concurrent_per_site, rollout.expires_at, self._needed[rollout.pk]
            if cap is None or not needed or end <= self.now:
                continue
            for site, zone_name, n in Delivery.objects.left_by_site(rollout.pk):
                spans = openings(rollout.window, zone_name, start=self.now, end=end)
                fits = carried([(max(a, self.now), b) for a, b in spans], needed, cap)
                if fits >= n:
                    continue
                words = (
                    f"{_named(rollout)} has {counted(n)} left at {names[site]}, and at most {cap} at once "
                    f"there: {fits} of them fit in before it ends on {end:%-d %b %H:%M} UTC."
                )
                most = max(cap + 1, -(-n * cap // max(1, fits)))
                change = {"max_concurrent_per_site": min(most, n)}
                fixes = [
                    _move(
                        MoveKind.ROLLOUT,
                        rollout.pk,
                        change,
                        f"Let {change['max_concurrent_per_site']} at once per site",
                    )
                ]
                if rollout.window is not None:
                    fixes.append(_wider(rollout, before=1, after=1))
                yield _conflict(ConflictCode.SITE_CAP, MoveKind.ROLLOUT, rollout.pk, words, n, fixes, beside=site)

    def _wanted_twice(self) -> Iterator[CalendarConflict]:
        by_id = {r.pk: r for r in self.rollouts}
        order = [r.pk for r in Rollout.objects.moving()]
        for a, b, n in Delivery.objects.wanted_twice():
            if a not in by_id or b not in by_id:
                continue
            first, second = sorted((by_id[a], by_id[b]), key=lambda r: r.rank)
            words = (
                f"{_named(first)} and {_named(second)} both want {counted(n)}. "
                f"Rollout {first.pk} goes first; Rollout {second.pk} waits for them."
            )
            turned = [second.pk if pk == first.pk else first.pk if pk == second.pk else pk for pk in order]
            title = f"Let Rollout {second.pk} go first"
            fixes = [_move(MoveKind.ROLLOUT, second.pk, {"order": turned}, title)]
            yield _conflict(ConflictCode.WANTED_TWICE, MoveKind.ROLLOUT, second.pk, words, n, fixes, beside=first.pk)

    def _never_awake(self) -> Iterator[CalendarConflict]:
        for rollout in self.rollouts:
            window = rollout.window
            if window is None:
                continue
            length = window.length
            waiting = Delivery.objects.of_rollout(rollout.pk).waiting()
            sleepers = waiting.filter(device__check_in_interval_seconds__gt=length.total_seconds())
            n = sleepers.count()
            if not n:
                continue
            longest = sleepers.aggregate(most=Max("device__check_in_interval_seconds"))["most"]
            words = (
                f"{counted(n)} of {_named(rollout)} may never be awake in its window of {_minutes(length)}: "
                f"they check in every {_minutes(timedelta(seconds=longest))} at the longest."
            )
            any_hour = {"window_start": None, "window_end": None}
            fixes = [_move(MoveKind.ROLLOUT, rollout.pk, any_hour, "Install at any hour")]
            if timedelta(seconds=longest) < timedelta(hours=23):
                hours = -(-int(longest - length.total_seconds()) // 3600) + 1
                fixes.insert(0, _wider(rollout, before=hours // 2, after=hours - hours // 2))
            yield _conflict(ConflictCode.NEVER_AWAKE, MoveKind.ROLLOUT, rollout.pk, words, n, fixes)


def _conflict(
    code: ConflictCode,
    kind: MoveKind,
    object_id: int,
    words: str,
    devices: int,
    fixes: Sequence[Move],
    beside: object = "",
) -> CalendarConflict:
    key = f"{code}/{kind}/{object_id}/{beside}"
    return CalendarConflict(code=code, kind=kind, id=object_id, words=words, devices=devices, fixes=fixes, key=key)


def _move(kind: MoveKind, object_id: int, change: dict[str, Any], words: str) -> Move:
    return Move(kind=kind, id=object_id, change=change, words=words)


def _wider(rollout: Rollout, *, before: int, after: int) -> Move:
    """The window of a rollout, so many hours longer at its ends."""
    assert rollout.window_start is not None
    assert rollout.window_end is not None
    start, end = _shifted(rollout.window_start, -before), _shifted(rollout.window_end, after)
    words = f"Open the window from {start:%H:%M} to {end:%H:%M}"
    return _move(MoveKind.ROLLOUT, rollout.pk, {"window_start": f"{start:%H:%M}", "window_end": f"{end:%H:%M}"}, words)


def _quicker(rollout: Rollout) -> list[Move]:
    """Changes that may have a rollout end sooner; what each does is for the forecast to say."""
    twice = {"max_concurrent": 2 * rollout.max_concurrent}
    found = [_move(MoveKind.ROLLOUT, rollout.pk, twice, f"Let {twice['max_concurrent']} at once")]
    if rollout.window is not None and rollout.window.length <= timedelta(hours=20):
        found.insert(0, _wider(rollout, before=2, after=2))
    return found


def _shifted(at: time, hours: int) -> time:
    return at.replace(hour=(at.hour + hours) % 24)


def _latest_end(rollout: Rollout) -> datetime | None:
    forecast = rollout.current_forecast
    return forecast.high if forecast else None


def _named(rollout: Rollout) -> str:
    return f"Rollout {rollout.pk} ({title_of(rollout)})"


def _titled(schedule: Schedule) -> str:
    return f"“{schedule.title}”"


def _minutes(length: timedelta) -> str:
    minutes = int(length.total_seconds()) // 60
    hours, rest = divmod(minutes, 60)
    if not hours:
        return f"{minutes} min"
    return f"{hours} h {rest} min" if rest else f"{hours} h"
