"""How even drawn rings are: a 5% ring's distance from its fleet, beside that of a random draw, over 200 fleets."""

import statistics

import numpy as np

from bench.results import emit
from herald_core.rings.assignment import distance, even_draw

FLEETS, DEVICES, SHARE = 200, 2400, 0.05
#: different values of model, uplink, site and version
VALUES = (9, 3, 6, 5)


def run() -> None:
    """The median over fleets of the largest difference of shares."""
    even, plain = [], []
    for seed in range(FLEETS):
        rng = np.random.default_rng(seed)
        codes = np.stack([rng.choice(n, DEVICES, p=rng.dirichlet(np.full(n, 2.0))) for n in VALUES], axis=1)
        pool, count = np.arange(DEVICES), int(DEVICES * SHARE)
        even.append(distance(codes[even_draw(pool, codes, count, rng)], codes)[0])
        plain.append(distance(codes[rng.choice(DEVICES, count, replace=False)], codes)[0])
    value, beside = statistics.median(even), statistics.median(plain)
    emit(
        "draws",
        f"distance of a ring of {SHARE:.0%} from its fleet of {DEVICES}, median of {FLEETS}",
        value,
        "",
        beside=f"a random draw, {beside:.4f}",
        ratio=value / beside,
        target="<= 0.5 of a random draw",
        met=value <= beside / 2,
    )
