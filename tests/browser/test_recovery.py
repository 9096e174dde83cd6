"""Any process may be killed at any moment: the rollout ends with the same sums."""

import re
import time
from collections import Counter
from collections.abc import Iterator

import pytest

from tests.running import DEVICES, Running
from tests.soak.__main__ import FAMILIES, Soak
from tests.soak.disturbances import DISTURBANCES
from tests.soak.proxy import Proxy, behind_a_proxy


@pytest.fixture(scope="module")
def proxied() -> Iterator[tuple[Running, Proxy]]:
    # an hour of the fleet is 24 s: what a slow machine takes must not look like an hour's silence
    with behind_a_proxy(devices=DEVICES, speed=150) as both:
        yield both


@pytest.fixture(scope="module")
def small(proxied: tuple[Running, Proxy]) -> Running:
    return proxied[0]


def test_kill_9_of_everything_in_the_middle_of_a_rollout(small: Running) -> None:
    rule = 'family any of (Sill, Lumen) and presence = "on time" and admission = admitted'
    group = small.api("POST", "groups", {"name": "Killed", "rule": rule})
    rollout = small.launch(
        {
            "changes": [{"choice": "newest"}],
            "include": [group["id"]],
            "exclude": [small.group("Bench and spares")],
            "rings": [
                {"name": "Canary", "kind": "number", "number": 6, "soak_minutes": 10, "confirmed_pct": 60},
                {"name": "Half", "kind": "share", "share_pct": 50, "soak_minutes": 10, "confirmed_pct": 60},
                {"name": "Rest", "kind": "rest", "soak_minutes": 0},
            ],
            "failure_limit_pct": 60,
            "expires_after_hours": 30,
            "max_attempts": 4,
        }
    )
    path = f"rollouts/{rollout}"
    begun = small.until(path, lambda r: r["state"] == "running")
    total, left_out = begun["total"], begun["left_out"]
    for name in ("clock", "gateway", "worker", "server", "fleet"):
        small.until(path, lambda r: sum(r["phases"].get(p, 0) for p in ("fetching", "installing", "confirmed")) > 0)
        small.kill(name)
        time.sleep(1.5)
    small.kill_database()
    time.sleep(2)
    small.kill("supervisor")
    time.sleep(1)
    small.start()
    ended = small.until(path, lambda r: r["state"] == "finished")
    assert (ended["total"], ended["left_out"]) == (total, left_out)
    assert sum(ended["phases"].values()) == total
    assert ended["phases"].get("confirmed", 0) >= total * 0.9
    rows, cursor = [], ""
    while True:
        page = small.ask(f"{path}/deliveries?limit=1000{cursor}")
        rows += page["deliveries"]
        if page["next"] is None:
            break
        cursor = f"&cursor={page['next']}"
    assert max(Counter(r["device"] for r in rows).values()) == 1
    assert all(r["firmware"] in ("5.2.1", "7.3.0") for r in rows if r["phase"] == "confirmed")


def test_disturbances_show_on_now_and_every_order_is_accounted_for(proxied: tuple[Running, Proxy]) -> None:
    """The small sibling of `./herald test soak`, always with the same disturbances."""
    named = {d.name: d for d in DISTURBANCES}
    soak = Soak(*proxied, FAMILIES[:2])
    for number, name in enumerate(
        ("the clock stands still", "the network is cut for a moment", "the database stands still", "the network hangs")
    ):
        soak.work(restart=number if number == 1 else None)
        soak.disturb(named[name])
    assert soak.end() == []
    sums = soak.accounts.sums()
    assert sums["confirmed"] > 0.8 * sum(sums.values()), sums


def test_a_second_start_sets_nothing_up_again_and_loses_nothing(small: Running) -> None:
    groups = len(small.ask("groups"))
    small.stop()
    said = small.start()
    assert "starting PostgreSQL" in said
    assert not re.search("installing|building|making a private|loading", said), said
    assert len(small.ask("groups")) == groups
