"""When a rollout will be through: many simulated futures at once."""

from herald_core.forecast.engine import Forecast, forecast
from herald_core.forecast.inputs import Fleet, ForecastInputs, RemainingRing

__all__ = ["Fleet", "Forecast", "ForecastInputs", "RemainingRing", "forecast"]
