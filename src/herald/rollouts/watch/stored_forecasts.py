"""Forecasts that are kept of running rollouts, for lists and the calendar."""

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

import numpy as np
import structlog

from herald.rollouts.models import Rollout, RolloutState, StoredForecast
from herald.rollouts.watch.forecast import forecast_rollout
from herald_core.forecast import Forecast
from herald_core.forecast.engine import QuantileBand

log = structlog.get_logger(__name__)
#: lists show a forecast that is at most about so old
FORECAST_AGE = timedelta(minutes=10)
#: so much is kept of what happens in each hour
MOST_HOURS = 24 * 42
#: of so many sites is kept what their uplinks have to carry
MOST_SITES = 20


def store_forecasts(*, now: datetime) -> int:
    """Forecast the running rollouts anew whose stored forecast is old, the oldest first; how many were. One that fails
    does not keep the others from theirs: it keeps the one before, which says how old it is."""
    running = Rollout.objects.filter(state=RolloutState.RUNNING).select_related("forecast")
    due = [r for r in running if (kept := r.current_forecast) is None or now - kept.at >= FORECAST_AGE]
    done = 0
    for rollout in sorted(due, key=lambda r: ((kept := r.current_forecast) and kept.at.timestamp()) or 0.0):
        try:
            found = forecast_rollout(rollout, now=now)
        except Exception:
            log.exception("forecast_failed", rollout=rollout.pk)
            continue
        told = found.forecast
        told_of = {
            **told.end.moments(now),
            "rings": _ring_moments(told, now),
            "hourly": _hourly(told),
            "transfers": _transfers(told, found.uplinks),
        }
        StoredForecast.objects.update_or_create(rollout=rollout, defaults={"at": now, **told_of})
        done += 1
    return done


def _ring_moments(told: Forecast, now: datetime) -> list[dict[str, Any]]:
    """When each ring opens and is through, as texts."""

    def texts(band: QuantileBand) -> dict[str, str | None]:
        return {name: at.isoformat() if at else None for name, at in band.moments(now).items()}

    return [
        {"position": place, "opens": texts(ring.opens), "through": texts(ring.through)}
        for place, ring in enumerate(told.rings, start=1)
    ]


def _hourly(told: Forecast) -> list[float]:
    """How many devices are confirmed in each hour from now on, by the median of the curve."""
    at, confirmed = [c[0] for c in told.curve], [c[2] for c in told.curve]
    hours_ahead = min(MOST_HOURS, int(np.ceil(at[-1] / 3600))) if at else 0
    by_hour = np.interp(np.arange(hours_ahead + 1) * 3600.0, at, confirmed) if hours_ahead else np.zeros(1)
    return [round(float(n), 2) for n in np.diff(by_hour)]


def _transfers(told: Forecast, uplinks: Mapping[int, int]) -> dict[str, list[float]]:
    """How many files come at once in each hour from now on, for the sites that are full longest, by id."""
    full = {site: float(at_once.sum()) / uplinks[site] for site, at_once in told.transfers.items()}
    kept = sorted((site for site, hours in full.items() if hours > 0), key=lambda site: (-full[site], site))
    return {
        str(site): [round(float(n), 2) for n in np.trim_zeros(told.transfers[site].round(2), "b")[:MOST_HOURS]]
        for site in kept[:MOST_SITES]
    }
