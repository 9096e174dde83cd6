"""One JSON object a line."""

import json
import statistics
import time
from collections.abc import Callable
from typing import Any


def emit(
    bench: str,
    what: str,
    value: float,
    unit: str,
    *,
    target: str,
    met: bool,
    beside: str = "",
    ratio: float | None = None,
    **more: Any,
) -> None:
    """Print a result. `beside` says what the value is compared with, `ratio` is value over that."""
    line = {"bench": bench, "what": what, "value": round(value, 3), "unit": unit, "beside": beside}
    print(
        json.dumps({**line, "ratio": None if ratio is None else round(ratio, 3), "target": target, "met": met, **more}),
        flush=True,
    )


def times_ms(work: Callable[[], Any], runs: int = 25) -> list[float]:
    """How long each run took, in ms, after one that is not counted."""
    work()
    found = []
    for _ in range(runs):
        started = time.perf_counter()
        work()
        found.append((time.perf_counter() - started) * 1000)
    return found


def p95(values: list[float]) -> float:
    """The 95th percentile."""
    return statistics.quantiles(values, n=20)[-1]
