"""When a rollout will be through: many simulated futures at once."""

from herald_core.forecast.futures import Forecast, forecast
from herald_core.forecast.situation import Fleet, RingAhead, Situation

__all__ = ["Fleet", "Forecast", "RingAhead", "Situation", "forecast"]
