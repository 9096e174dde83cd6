"""How often rollouts halt by evidence at true failure rates around a limit of 2%, beside a plain count of failures."""

import statistics
from collections.abc import Callable

import numpy as np

from bench.results import emit
from herald_core.rings.gates import RingCounts, halt_reason

ROLLOUTS, DEVICES, WAVE, LIMIT, COUNT = 1000, 500, 10, 0.02, 5
RATES = (0.005, 0.01, 0.02, 0.05, 0.10)


def run() -> None:
    """Devices report in waves of ten; after each the rules are asked."""
    for rate in RATES:
        evidence = _simulate(rate, lambda c: halt_reason(c, failure_limit=LIMIT, count_limit=None) is not None)
        count = _simulate(rate, lambda c: c.failed >= COUNT)
        target = "<= 0.2" if rate <= LIMIT / 2 else ">= 0.95" if rate >= LIMIT * 2.5 else ""
        met = {"<= 0.2": evidence[0] <= 0.2, ">= 0.95": evidence[0] >= 0.95, "": True}[target]
        emit(
            "halting",
            f"share halted at a true rate of {rate:.1%}, limit {LIMIT:.0%}, {DEVICES} devices, {ROLLOUTS} rollouts",
            evidence[0],
            "",
            beside=f"halting at {COUNT} failures: {count[0]:.3f} halted, {count[1]:.1f} failed before",
            target=target,
            met=met,
            failed_before_halting=round(evidence[1], 2),
        )


def _simulate(rate: float, halts: Callable[[RingCounts], bool]) -> tuple[float, float]:
    """The share of rollouts that halt, and the mean number of failed devices when they do."""
    rng = np.random.default_rng(int(rate * 10_000))
    outcomes = rng.random((ROLLOUTS, DEVICES // WAVE, WAVE)) < rate
    failed = outcomes.sum(axis=2).cumsum(axis=1)
    before = []
    for row in failed:
        for wave, bad in enumerate(row):
            tried = (wave + 1) * WAVE
            if bad and halts(RingCounts(size=DEVICES, in_play=DEVICES, confirmed=tried - int(bad), failed=int(bad))):
                before.append(int(bad))
                break
    return len(before) / ROLLOUTS, statistics.mean(before) if before else 0.0
