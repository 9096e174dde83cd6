"""Whether planted causes are found first, and whether none is claimed where there is none: 100 runs each."""

import random
import time
from typing import Any

from bench.results import emit
from herald_core.common_causes import find_common_causes
from herald_core.rules import Clause, FieldSpec, FieldType, Op, Vocabulary, compile_predicate

RUNS, DEVICES, BASE, PLANTED = 100, 2000, 0.01, 0.40
WORDS = Vocabulary.with_fields(
    tuple(
        FieldSpec(key=key, type=FieldType.CHOICE, label=key, source="fact")
        for key in ("uplink", "power", "crop", "mounting")
    )
)
SHARES = {
    "model": {"Sill 400": 0.45, "Sill 380": 0.3, "Sill 400R": 0.25},
    "hardware": {"A": 0.25, "B": 0.5, "C": 0.25},
    "firmware": {"4.8.0": 0.15, "4.9.2": 0.2, "5.0.9": 0.2, "5.1.4": 0.45},
    "site": {"Amber": 0.17, "Juniper": 0.11, "Kestrel": 0.16, "Marrow": 0.1, "Oxbow": 0.26, "Thistle": 0.2},
    "uplink": {"cellular": 0.68, "ethernet": 0.21, "satellite": 0.11},
    "power": {"mains": 0.6, "solar": 0.4},
    "crop": {"olive": 0.3, "vine": 0.3, "almond": 0.4},
    "mounting": {"pole": 0.5, "cabinet": 0.5},
}
TAGS = {"frost-zone": 0.1, "high-terrace": 0.08, "pilot": 0.03, "flood-risk": 0.06, "night-irrigation": 0.15}


def run() -> None:
    """Single causes, pairs, and no cause at all."""
    for what, clauses in (("a single cause", 1), ("a pair", 2), ("no cause", 0)):
        right, took = 0, 0.0
        for seed in range(RUNS):
            rng = random.Random(seed * 3 + clauses)
            tried = [_device(rng) for _ in range(DEVICES)]
            planted = _plant(rng, tried, clauses)
            failed = [rng.random() < (PLANTED if i in planted else BASE) for i in range(DEVICES)]
            started = time.perf_counter()
            found = find_common_causes(tried, failed, [], WORDS)
            took += time.perf_counter() - started
            right += _matching(tried, found[0].clauses) == planted if found and clauses else not found and not clauses
        emit(
            "common_causes",
            f"{what}: {'named first' if clauses else 'none claimed'}, of {RUNS} runs of {DEVICES} tried devices",
            right,
            "runs",
            target=">= 95",
            met=right >= 95,
            seconds_each=round(took / RUNS, 3),
        )


def _device(rng: random.Random) -> dict[str, Any]:
    record: dict[str, Any] = {k: rng.choices(list(v), list(v.values()))[0] for k, v in SHARES.items()}
    record["tag"] = frozenset(t for t, share in TAGS.items() if rng.random() < share)
    return record


def _plant(rng: random.Random, tried: list[dict[str, Any]], clauses: int) -> set[int]:
    """The devices of a cause drawn at random; of the size that a rollout's first rings would show."""
    while clauses:
        fields = rng.sample([*SHARES, "tag"], clauses)
        chosen = [Clause(f, Op.EQ, (rng.choice(list(TAGS if f == "tag" else SHARES[f])),)) for f in fields]
        found = _matching(tried, chosen)
        if 40 <= len(found) <= DEVICES // 2:
            return found
    return set()


def _matching(tried: list[dict[str, Any]], clauses: Any) -> set[int]:
    from datetime import UTC, datetime

    tests = [compile_predicate(c, WORDS, datetime.min.replace(tzinfo=UTC)) for c in clauses]
    return {i for i, r in enumerate(tried) if all(t(r) for t in tests)}
