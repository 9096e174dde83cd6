"""Rollouts in the calendar: their hours, and when each ring was or is expected to be under way."""

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from herald.agenda.counts import ring_counts
from herald.agenda.rows import Cell, Rows
from herald.rollouts.models import Ring, Rollout, RolloutState, StoredForecast
from herald_core.deliveries import OPEN
from herald_core.timing.windows import openings

#: of rollouts that ended, the latest so many are shown
MOST_ENDED = 60


@dataclass(frozen=True, kw_only=True)
class Span:
    """[starts_at, ends_at)."""

    starts_at: datetime
    ends_at: datetime


@dataclass(frozen=True, kw_only=True)
class RingSpan:
    """When a ring opens or opened, and when it is or was through, at the earliest, by the median, and at the latest of
    four futures of five; empty where that is not known. `devices` are its devices by row, `left` those not through."""

    ring: Ring
    opens_at: datetime | None
    opens_high: datetime | None
    through_low: datetime | None
    through_at: datetime | None
    through_high: datetime | None
    devices: Mapping[str, int]
    left: Mapping[str, int]


@dataclass(frozen=True, kw_only=True)
class RolloutPlan:
    """A rollout in the calendar; `windows` are the hours in which it may install, by row, as long as devices are left
    there. `forecast` is the stored one, and says of when it is. `files_to_come` are the devices that wait for a file,
    by site; of rows that a device may be in several of, it is not known."""

    rollout: Rollout
    forecast: StoredForecast | None
    left: Mapping[Cell, int]
    windows: Mapping[str, Sequence[Span]]
    rings: Sequence[RingSpan]
    files_to_come: Mapping[int, int] | None


def rollouts_within(rows: Rows, *, start: datetime, end: datetime, now: datetime) -> list[RolloutPlan]:
    """Rollouts that are open, and those that ended in [start, end)."""
    launched = Rollout.objects.filter(launched_at__isnull=False, launched_at__lt=end)
    ended = launched.filter(ended_at__gte=start, ended_at__lt=end).order_by("-id").values("pk")[:MOST_ENDED]
    rollouts = list(Rollout.objects.planned().filter(pk__in=launched.filter(ended_at=None).values("pk").union(ended)))
    every: dict[int, Counter[str]] = defaultdict(Counter)
    left: dict[int, Counter[Cell]] = defaultdict(Counter)
    files: dict[int, Counter[int]] = defaultdict(Counter)
    for ring, counts in ring_counts(rollouts, rows, rows.known).items():
        for phase, wants_file, site, *where, n in counts:
            cell = rows.cell(where)
            every[ring][cell[0]] += n
            if phase in OPEN:
                left[ring][cell] += n
            if wants_file and site is not None:
                files[ring][site] += n
    return [
        _plan(r, every, left, None if rows.overlap else files, rows, start=start, end=end, now=now) for r in rollouts
    ]


def _plan(
    rollout: Rollout,
    every: Mapping[int, Counter[str]],
    left: Mapping[int, Counter[Cell]],
    files: Mapping[int, Counter[int]] | None,
    rows: Rows,
    *,
    start: datetime,
    end: datetime,
    now: datetime,
) -> RolloutPlan:
    forecast = rollout.current_forecast
    told = {r["position"]: r for r in forecast.rings} if forecast else {}
    rings = list(rollout.rings.all())
    cells: Counter[Cell] = Counter()
    for ring in rings:
        cells.update(left.get(ring.pk, Counter()))
    # nothing is offered while it is paused or halted, whatever its hours are
    is_running = rollout.state == RolloutState.RUNNING
    return RolloutPlan(
        rollout=rollout,
        forecast=forecast,
        left=cells,
        windows=_windows(rollout, rows.shown(cells), forecast, start=start, end=end, now=now) if is_running else {},
        rings=[
            _ring(
                rollout, ring, told.get(ring.position), every.get(ring.pk, Counter()), left.get(ring.pk, {}), rows.keys
            )
            for ring in rings
        ],
        files_to_come=None if files is None else sum((files[r.pk] for r in rings if r.pk in files), Counter[int]()),
    )


def _ring(
    rollout: Rollout,
    ring: Ring,
    told: Mapping[str, Any] | None,
    every: Mapping[str, int],
    left: Mapping[Cell, int],
    keys: set[str],
) -> RingSpan:
    def moment(part: str, name: str) -> datetime | None:
        text = told[part][name] if told else None
        return datetime.fromisoformat(text) if text else None

    left_by_row: Counter[str] = Counter()
    for (key, _), n in left.items():
        left_by_row[key] += n
    over = ring.gate_met_at or (rollout.ended_at if ring.opened_at else None)
    return RingSpan(
        ring=ring,
        opens_at=ring.opened_at or moment("opens", "median"),
        opens_high=None if ring.opened_at else moment("opens", "high"),
        through_low=None if over else moment("through", "low"),
        through_at=over or moment("through", "median"),
        through_high=None if over else moment("through", "high"),
        devices={k: n for k, n in every.items() if k in keys},
        left={k: n for k, n in left_by_row.items() if k in keys},
    )


def _windows(
    rollout: Rollout,
    cells: Mapping[Cell, int],
    forecast: StoredForecast | None,
    *,
    start: datetime,
    end: datetime,
    now: datetime,
) -> dict[str, list[Span]]:
    """The hours ahead in which the rollout may install, by row: up to the latest end that is expected of it, or where
    none is, as far as is asked."""
    begins = max(start, now, rollout.starts_at or now)
    until = min(end, forecast.high) if forecast and forecast.high else end
    found: dict[str, set[tuple[datetime, datetime]]] = defaultdict(set)
    for key, zone in cells:
        found[key].update(openings(rollout.window, zone, start=begins, end=until))
    return {key: [Span(starts_at=a, ends_at=b) for a, b in _merged(spans)] for key, spans in found.items()}


def _merged(spans: set[tuple[datetime, datetime]]) -> list[tuple[datetime, datetime]]:
    """Spans as ones that do not touch: the clocks of a row open at different moments."""
    merged: list[tuple[datetime, datetime]] = []
    for begins, ends in sorted(spans):
        if merged and begins <= merged[-1][1]:
            merged[-1] = (merged[-1][0], max(merged[-1][1], ends))
        else:
            merged.append((begins, ends))
    return merged
