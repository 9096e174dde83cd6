"""On how many devices something failed, day by day (UTC), and what it was."""

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime

from herald.commands.models import Occurrence, Schedule
from herald.deliveries.models import Delivery
from herald.rollouts.models import Rollout
from herald.rollouts.watch.sentence import title_of

#: of a day, so many rollouts and commands are named
MOST_NAMED = 5


@dataclass(frozen=True, kw_only=True)
class Failed:
    """A rollout or a schedule, and on how many devices it failed that day."""

    kind: str
    id: int
    title: str
    devices: int


@dataclass(frozen=True, kw_only=True)
class FailedDay:
    """A day on which something failed: how many installs, how many commands, and the rollouts and schedules with most
    of them first; `others` counts those that are not named."""

    day: date
    installs: int
    commands: int
    of: list[Failed]
    others: int


def failed_days(since: datetime) -> list[FailedDay]:
    """The days since a moment on which something failed, the first first. What was tried again since, or proved well
    after all, did not fail. Answers that were deleted by age count on the day of their firing, as it was kept."""
    counts: dict[date, dict[tuple[str, int], int]] = defaultdict(lambda: defaultdict(int))
    for rollout, schedule, day, n in Delivery.objects.failed_by_day(since):
        counts[day][("rollout", rollout) if rollout is not None else ("schedule", schedule)] += n
    for schedule, day, n in Occurrence.objects.failed_by_day(since):
        counts[day]["schedule", schedule] += n
    titles = _titles({key for of in counts.values() for key in of})
    return [_day(day, of, titles) for day, of in sorted(counts.items())]


def _day(day: date, of: Mapping[tuple[str, int], int], titles: Mapping[tuple[str, int], str]) -> FailedDay:
    most = sorted(of.items(), key=lambda item: (-item[1], item[0]))
    named = [Failed(kind=k, id=pk, title=titles[k, pk], devices=n) for (k, pk), n in most[:MOST_NAMED]]
    return FailedDay(
        day=day,
        installs=sum(n for (kind, _), n in most if kind == "rollout"),
        commands=sum(n for (kind, _), n in most if kind == "schedule"),
        of=named,
        others=len(most) - len(named),
    )


def _titles(keys: set[tuple[str, int]]) -> dict[tuple[str, int], str]:
    rollouts = Rollout.objects.filter(pk__in=[pk for kind, pk in keys if kind == "rollout"])
    schedules = Schedule.objects.filter(pk__in=[pk for kind, pk in keys if kind == "schedule"])
    return {
        **{("rollout", r.pk): title_of(r) for r in rollouts.prefetch_related("changes__image")},
        **{("schedule", s.pk): s.title for s in schedules.select_related("template")},
    }
