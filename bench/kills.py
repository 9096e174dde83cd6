"""Twenty seeded runs: a rollout of a small fleet, and a random process killed with -9 at a random moment of each."""

import random
import time
from collections import Counter
from typing import Any

from tests.running import Running

from bench.results import emit
from herald_core.deliveries import ACTIVE, Phase

RUNS = 20
DEVICES = 240
PROCESSES = ("clock", "gateway", "worker", "server", "fleet", "database", "supervisor")
OVER = {Phase.CONFIRMED.value, Phase.FAILED.value}


def run() -> None:
    """Each run goes on from the fleet that the one before it left; sums, repeats and ends are looked at after each."""
    whole = 0
    with Running.in_a_folder(devices=DEVICES, speed=400) as installation:
        rule = 'family = Lumen and presence = "on time" and admission = admitted'
        group = installation.api("POST", "groups", {"name": "Killed", "rule": rule})["id"]
        versions = [installation.image(f"Lumen {v}") for v in ("7.2.5", "7.2.0")]
        for seed in range(RUNS):
            whole += _one(installation, group, versions[seed % 2], random.Random(seed))
    emit(
        "kills", f"runs of {RUNS} that lost and repeated nothing", whole, "runs", target=f"= {RUNS}", met=whole == RUNS
    )


def _one(installation: Running, group: int, image: int, rng: random.Random) -> bool:
    rollout = installation.launch(
        {
            "changes": [{"choice": "image", "image_id": image}],
            "downgrades": True,
            "include": [group],
            "rings": [
                {"name": "First", "kind": "share", "share_pct": 40, "soak_minutes": 0, "confirmed_pct": 50},
                {"name": "Rest", "kind": "rest", "soak_minutes": 0},
            ],
            "failure_limit_pct": 90,
            "max_attempts": 5,
            "expires_after_hours": 24,
        }
    )
    installation.rank_first(rollout)
    path = f"rollouts/{rollout}"
    total = installation.ask(path)["total"]
    time.sleep(rng.uniform(0.0, 8.0))
    victim = rng.choice(PROCESSES)
    _kill(installation, victim)
    ended = installation.until(path, lambda r: r["state"] == "finished", seconds=300)
    rows = installation.ask(f"{path}/deliveries?limit=1000")["deliveries"]
    faults = _faults(ended, rows, total)
    print(f"seed {rng.random():.3f}: killed {victim}: {ended['phases']} {faults or 'whole'}", flush=True)
    return not faults


def _kill(installation: Running, victim: str) -> None:
    if victim == "database":
        installation.kill_database()
    else:
        installation.kill(victim)
    if victim in ("database", "supervisor"):
        time.sleep(2)
        if victim == "database":
            installation.kill("supervisor")
            time.sleep(1)
        installation.start()


def _faults(ended: dict[str, Any], rows: list[dict[str, Any]], total: int) -> list[str]:
    faults = []
    if sum(ended["phases"].values()) != total or ended["total"] != total:
        faults.append("the sums do not add up")
    if any(ended["phases"].get(p.value) for p in ACTIVE):
        faults.append("an order is still in hand")
    if max(Counter(r["device"] for r in rows).values(), default=1) > 1:
        faults.append("a device has two deliveries")
    if any(r["phase"] == "confirmed" and not r["what"].endswith(str(r["firmware"])) for r in rows):
        faults.append("a confirmed device runs something else")
    if sum(ended["phases"].get(p, 0) for p in OVER) < 0.9 * total:
        faults.append("too few came to an end of their own")
    return faults
