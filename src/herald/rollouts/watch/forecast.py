"""Forecasts of rollouts, and rehearsals of drafts: what the core's simulated futures start from."""

from collections import Counter, defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, time, timedelta
from typing import Any

import numpy as np

from herald.calendar.models import FreezeTime
from herald.calendar.services import devices_held, freezes_between
from herald.deliveries.durations import Spans, seen_spans
from herald.deliveries.models import Delivery
from herald.fleet.capabilities import lacking
from herald.fleet.models import Device
from herald.images.models import Image
from herald.rollouts.capacity import SiteCapacity
from herald.rollouts.gates import phase_counts, spec_of
from herald.rollouts.models import Ring, Rollout
from herald.rollouts.preflight.past_failures import past_failures
from herald.rollouts.preflight.plan import plan
from herald.rollouts.watch.turns import others_first
from herald_core.capabilities import Capability
from herald_core.capacity import Caps
from herald_core.deliveries import Phase
from herald_core.forecast import Fleet, Forecast, ForecastInputs, RemainingRing, forecast
from herald_core.forecast.engine import without
from herald_core.forecast.inputs import Floats, Hours, Limit, hours
from herald_core.preflight import Outcome
from herald_core.rings.gates import RingCounts
from herald_core.timing.windows import Window

#: who approves is assumed to be at work then
WORK = Window(start=time(8), end=time(17), days=frozenset(range(5)), clock="UTC")


@dataclass(frozen=True, kw_only=True)
class RolloutForecast:
    """A forecast with what it is about: `freezes` are those that hold some of its devices and how many, `meets` is the
    chance to be through before the next of them. `uplinks` are the sites whose uplinks are narrow, and how many files
    each carries at once."""

    forecast: Forecast
    uplinks: Mapping[int, int]
    silent: int
    freezes: Sequence[tuple[FreezeTime, int]]
    freeze: FreezeTime | None
    meets: float


@dataclass(frozen=True, slots=True)
class _Row:
    """A device that is not through yet."""

    id: int
    ring: int
    steps: int
    ready: float
    attempts: int
    with_file: bool = False
    #: the key of the version that it is to get, while it waits: rollouts that go first may have it before
    target: str | None = None


@dataclass(frozen=True, kw_only=True)
class ForecastBasis:
    """What a forecast of a rollout starts from: with the freezes ahead and whom each holds, the devices that are not
    through, and the zones and freezes that those have, one for each of its `hours`."""

    situation: ForecastInputs
    freezes: Sequence[FreezeTime]
    held: Mapping[int, Collection[int]]
    devices: Collection[int]
    kinds: Mapping[tuple[str, tuple[int, ...]], int]
    horizon: timedelta
    #: the rollouts that go first with some of the devices, and how many
    others: Mapping[int, int]
    #: when each device would be ready, were there no such rollouts
    alone: Floats

    def going_first(self) -> ForecastInputs:
        """The same rollout, were it to go before all others."""
        return without(self.situation, fleet=replace(self.situation.fleet, ready=self.alone))

    def hours_with(
        self,
        window: Window | None,
        now: datetime,
        closed: Mapping[str, Sequence[tuple[datetime, datetime]]] | None = None,
    ) -> list[Hours]:
        """When installs may begin with another window; in a zone's `closed` times none may."""
        spans = _spans_of(self.freezes)
        return [
            hours(
                window,
                zone,
                [*(span for pk in held for span in spans.get(pk, ())), *(closed or {}).get(zone, ())],
                minutes=self.situation.minutes,
                now=now,
                horizon=self.horizon.total_seconds(),
            )
            for zone, held in self.kinds
        ]


def forecast_rollout(rollout: Rollout, *, now: datetime, failure_rate: float | None = None) -> RolloutForecast:
    """When the rollout will be through; of a draft, if it were launched now. A `failure_rate` (0 to 1, of attempts)
    rehearses it with made-up failures."""
    basis = forecast_basis(rollout, now=now, failure_rate=failure_rate)
    situation, freezes, held = basis.situation, basis.freezes, basis.held
    told = forecast(
        situation,
        seed=rollout.seed % 2**32,
        relaxed=_relaxed(rollout, basis, now),
    )
    met = [(f, number) for f in freezes if (number := len(set(held[f.pk]) & set(basis.devices)))]
    next_freeze = next((f for f, _ in met if f.starts_at > now), None)
    before = (next_freeze.starts_at - now).total_seconds() if next_freeze else 0.0
    return RolloutForecast(
        forecast=told,
        uplinks=situation.caps.uplinks,
        silent=int(situation.fleet.silent.sum()),
        freezes=met,
        freeze=next_freeze,
        meets=float(np.mean(told.ends <= before)) if next_freeze else 1.0,
    )


def forecast_basis(rollout: Rollout, *, now: datetime, failure_rate: float | None = None) -> ForecastBasis:
    """What a forecast of the rollout starts from; of a draft, as if it were launched now."""
    rings = list(rollout.rings.select_related("group"))
    rows = _drafted(rollout, rings, now) if rollout.launched_at is None else _launched(rollout, now)
    # as far as another attempt would have from now on; an end that is over leaves nothing to look at, but an hour
    horizon = max(rollout.end_for(max(now, rollout.starts_at or now)) - now, timedelta(hours=1))
    devices = {
        pk: (zone, interval, silent, site or 0)
        for pk, zone, interval, silent, site in Device.objects.forecast_rows([r.id for r in rows], now)
    }
    freezes = [] if rollout.ignores_freezes else freezes_between(now, now + horizon)
    held = {f.pk: devices_held([f]) for f in freezes}
    kinds: dict[tuple[str, tuple[int, ...]], int] = {}
    hours_of = []
    for row in rows:
        key = (devices[row.id][0], tuple(pk for pk in held if row.id in held[pk]))
        hours_of.append(kinds.setdefault(key, len(kinds)))
    minutes = float(max(_minutes(rollout), default=10))
    ahead = others_first(rollout, {r.id: r.target for r in rows if r.target is not None}, now=now)
    alone = np.array([r.ready for r in rows], dtype=np.float64)
    found = _hours(rollout, kinds, freezes, minutes, now, horizon)
    silent = np.array([devices[r.id][2] for r in rows], dtype=bool)
    not_ahead = set(_unable_ahead(rollout, devices))
    counts = phase_counts([rollout.pk])[rollout.pk] if rollout.launched_at else {}
    lost = Delivery.objects.lost_by_ring([rollout.pk]) if rollout.launched_at else {}
    of_ring = [RingCounts.of_phases(counts.get(r.pk, {}), lost=lost.get(r.pk, 0)) for r in rings]
    sizes = Counter(r.ring for r in rows)
    # what an image did before is what is known of it until the rollout itself tells more
    past = past_failures(rollout, {c.image_id for c in rollout.changes.all() if c.image_id})
    seen = seen_spans(rollout.pk) if rollout.launched_at else Spans(fetches=(), installs=())
    situation = ForecastInputs(
        fleet=Fleet(
            ring=np.array([r.ring for r in rows], dtype=np.int64),
            hours_of=np.array(hours_of, dtype=np.int64),
            interval=np.array([devices[r.id][1] for r in rows], dtype=np.float64),
            steps=np.array([r.steps for r in rows], dtype=np.int64),
            ready=np.maximum(alone, np.array([ahead.free_in.get(r.id, 0.0) for r in rows], dtype=np.float64)),
            attempts=np.array([r.attempts for r in rows], dtype=np.int64),
            silent=silent,
            with_file=np.array([r.with_file for r in rows], dtype=bool),
            able_ahead=np.array([r.id not in not_ahead for r in rows], dtype=bool),
            site=np.array([devices[r.id][3] for r in rows], dtype=np.int64),
            place=np.array([rollout.spread_position_of(r.id) if rollout.spread_minutes else 0.0 for r in rows]),
        ),
        rings=[
            RemainingRing(
                confirmed=c.confirmed,
                failed=c.failed,
                share=ring.confirmed_pct / 100,
                soak=ring.soak_minutes * 60.0,
                open=ring.opened_at is not None,
                opened=(now - ring.opened_at).total_seconds() if ring.opened_at else 0.0,
                met=ring.gate_met_at is not None,
                share_reached=(now - ring.share_reached_at).total_seconds() if ring.share_reached_at else None,
                needs_approval=ring.needs_approval and ring.approved_at is None,
                max_unreached=ring.max_unreached,
                min_tried=spec_of(rollout, ring).tried_needed(c.size if rollout.launched_at else sizes[place]),
            )
            for place, (ring, c) in enumerate(zip(rings, of_ring, strict=True))
        ],
        hours=found,
        minutes=minutes,
        prefetch=rollout.prefetch,
        installs=seen.installs,
        fetches=seen.fetches,
        caps=Caps(
            max_concurrent=rollout.max_concurrent,
            per_site=rollout.max_concurrent_per_site,
            per_hour=rollout.max_starts_per_hour,
            uplinks=SiteCapacity.now().limits,
        ),
        spread=60.0 * rollout.spread_minutes,
        max_attempts=rollout.max_attempts,
        failure_limit=rollout.failure_limit_pct / 100,
        horizon=horizon.total_seconds(),
        soak=_soak(rollout),
        tried_attempts=sum(c.tried for c in of_ring) + sum(p.tried for p in past),
        failed_attempts=sum(c.failed for c in of_ring) + sum(p.failed for p in past),
        failure_rate=failure_rate,
        working=hours(WORK, "UTC", [], minutes=0, now=now, horizon=horizon.total_seconds()),
    )
    return ForecastBasis(
        situation=situation,
        freezes=freezes,
        held=held,
        devices=devices.keys(),
        kinds=kinds,
        horizon=horizon,
        others=ahead.rollouts,
        alone=alone,
    )


def _unable_ahead(rollout: Rollout, ids: Collection[int]) -> Iterable[int]:
    """Devices whose firmware cannot fetch files ahead, where the rollout would have it do so."""
    if not rollout.prefetch:
        return ()
    unable = Device.objects.filter(lacking(Capability.FILES_AHEAD)).values_list("id", flat=True)
    return (pk for pk in unable if pk in ids)


def _drafted(rollout: Rollout, rings: Sequence[Ring], now: datetime) -> list[_Row]:
    found = plan(rollout, rings, now=now)
    ready = max(0.0, (rollout.starts_at - now).total_seconds()) if rollout.starts_at else 0.0
    return [
        _Row(d.id, ring, len(d.steps), ready, rollout.max_attempts, target=d.steps[-1].key)
        for d, ring in zip(found.taking_part, found.ring_of, strict=True)
        if ring >= 0 and d.outcome is not Outcome.ALREADY
    ]


def _launched(rollout: Rollout, now: datetime) -> list[_Row]:
    rows = Delivery.objects.of_rollout(rollout.pk).open().filter(hold_reason="").order_by("id")
    return [
        _Row(
            device,
            position - 1,
            hops - hop + 1,
            max(0.0, (not_before - now).total_seconds()) if phase == Phase.WAITING.value else 0.0,
            max(1, most - attempt + 1),
            file_stored_at is not None,
            key if phase == Phase.WAITING.value else None,
        )
        for device, position, hop, hops, not_before, phase, attempt, most, file_stored_at, key in rows.values_list(
            "device_id",
            "ring__position",
            "hop",
            "hops",
            "not_before",
            "phase",
            "attempt",
            "max_attempts",
            "file_stored_at",
            "target__version_key",
        )
    ]


def _images(rollout: Rollout) -> Sequence[Image]:
    return [c.image for c in rollout.changes.select_related("image") if c.image]


def _minutes(rollout: Rollout) -> list[int]:
    if rollout.launched_at is not None:
        waiting = Delivery.objects.of_rollout(rollout.pk).open()
        return [int(m) for m in waiting.order_by().values_list("image__expected_minutes", flat=True).distinct()]
    return [i.expected_minutes for i in _images(rollout)]


def _soak(rollout: Rollout) -> float:
    return 60.0 * max((i.soak_minutes for i in _images(rollout)), default=0)


def _hours(
    rollout: Rollout,
    kinds: Mapping[tuple[str, tuple[int, ...]], int],
    freezes: Sequence[FreezeTime],
    minutes: float,
    now: datetime,
    horizon: timedelta,
    *,
    any_hour: bool = False,
) -> list[Hours]:
    """When installs may begin, for each zone and set of freezes."""
    spans = _spans_of(freezes)
    return [
        hours(
            None if any_hour else rollout.window,
            zone,
            [span for pk in held for span in spans.get(pk, ())],
            minutes=minutes,
            now=now,
            horizon=horizon.total_seconds(),
        )
        for zone, held in kinds
    ]


def _spans_of(freezes: Sequence[FreezeTime]) -> dict[int, list[tuple[datetime, datetime]]]:
    spans: dict[int, list[tuple[datetime, datetime]]] = defaultdict(list)
    for freeze in freezes:
        spans[freeze.pk].append((freeze.starts_at, freeze.ends_at))
    return spans


def _relaxed(rollout: Rollout, basis: ForecastBasis, now: datetime) -> dict[Limit, ForecastInputs]:
    """The same rollout without one of its limits each."""
    situation, kinds, freezes, horizon = basis.situation, basis.kinds, basis.freezes, basis.horizon
    minutes, caps = situation.minutes, situation.caps

    def with_gates(**changes: Any) -> ForecastInputs:
        return without(situation, rings=[replace(r, **changes) for r in situation.rings])

    relaxed = {
        Limit.AT_ONCE: without(situation, caps=replace(caps, max_concurrent=10**9)),
        Limit.SOAK: with_gates(soak=0.0),
    }
    if caps.per_site is not None:
        relaxed[Limit.AT_ONCE_PER_SITE] = without(situation, caps=replace(caps, per_site=None))
    if caps.per_hour is not None:
        relaxed[Limit.STARTS_PER_HOUR] = without(situation, caps=replace(caps, per_hour=None))
    if any(site in caps.uplinks for site in np.unique(situation.fleet.site)):
        relaxed[Limit.UPLINKS] = without(situation, caps=replace(caps, uplinks={}))
    if situation.spread:
        relaxed[Limit.SPREAD] = without(situation, spread=0.0)
    if rollout.window is not None:
        relaxed[Limit.WINDOW] = without(
            situation, hours=_hours(rollout, kinds, freezes, minutes, now, horizon, any_hour=True)
        )
    if freezes:
        relaxed[Limit.FREEZES] = without(situation, hours=_hours(rollout, kinds, [], minutes, now, horizon))
    if basis.others:
        relaxed[Limit.OTHERS] = basis.going_first()
    if any(r.needs_approval for r in situation.rings):
        relaxed[Limit.APPROVALS] = with_gates(needs_approval=False)
    if any(r.max_unreached is not None for r in situation.rings):
        relaxed[Limit.UNHEARD] = with_gates(max_unreached=None)
    return relaxed
