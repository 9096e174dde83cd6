"""What an installation at rest takes: CPU of each process at speed 1, with nothing moving."""

import json
import os
import time
import urllib.request
from collections.abc import Mapping
from pathlib import Path

from tests.running import Running

from bench.results import emit
from herald_launch.instance import Instance
from herald_launch.postgres import Cluster

SETTLE_SECONDS = 40
SECONDS = 120
TICKS = os.sysconf("SC_CLK_TCK")
CLOCK_TARGET = 0.02
CHECK_IN_TARGET_MS = 6.0


def run() -> None:
    """2,431 devices that call every quarter of an hour or so, and 100,000 of which none calls."""
    _measure(2431, fleet=True)
    _measure(100_000, fleet=False)


def _measure(devices: int, *, fleet: bool) -> None:
    with Running.in_a_folder(devices=devices, speed=1, fleet=fleet) as installation:
        time.sleep(SETTLE_SECONDS)
        before, called, began = _cpu_seconds(installation), _check_ins(installation), time.monotonic()
        time.sleep(SECONDS)
        after, calls, passed = _cpu_seconds(installation), _check_ins(installation), time.monotonic() - began
    shares = {name: (after[name] - before.get(name, 0.0)) / passed for name in after}
    here = f"{devices:,} devices, {'calling' if fleet else 'silent'}"
    clock = shares["clock"] + shares.get("database for clock", 0.0)
    whole = sum(s for n, s in shares.items() if n == "database" or not n.startswith(("database", "fleet")))
    emit(
        "idle",
        f"clock and its queries, {here}",
        clock,
        "cores",
        target=f"< {CLOCK_TARGET}",
        met=clock < CLOCK_TARGET,
        everything=round(whole, 4),
        shares={name: round(share, 4) for name, share in sorted(shares.items())},
    )
    if fleet:
        each = shares["gateway"] * passed / (calls - called) * 1000
        emit(
            "idle",
            f"CPU of the gateway for a lone check-in, {(calls - called) / passed:.1f} a second",
            each,
            "ms",
            target=f"< {CHECK_IN_TARGET_MS:g} ms",
            met=each < CHECK_IN_TARGET_MS,
        )


def _cpu_seconds(installation: Running) -> Mapping[str, float]:
    """CPU time that each process has taken since it began; the database as a whole, and for each of the others."""
    found = {
        name: _own(pid) for name, pid in installation.processes().items() if name not in ("supervisor", "supervise")
    }
    postmaster = int((Cluster(installation.folder / "postgres").data / "postmaster.pid").read_text().split("\n")[0])
    children = [int(p) for p in Path(f"/proc/{postmaster}/task/{postmaster}/children").read_text().split()]
    found["database"] = _own(postmaster, with_ended=True) + sum(_own(pid, with_ended=True) for pid in children)
    for pid, name in _backends(installation):
        key = f"database for {name.removeprefix('herald-')}"
        found[key] = found.get(key, 0.0) + _own(pid, with_ended=True)
    return found


def _own(pid: int, *, with_ended: bool = False) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    return sum(int(f) for f in fields[11 : 15 if with_ended else 13]) / TICKS


def _backends(installation: Running) -> list[tuple[int, str]]:
    """The database's processes that serve ours, with whom they serve."""
    import psycopg

    with psycopg.connect(Instance(installation.folder).environment()["DATABASE_URL"]) as connection:
        asked = "SELECT pid, application_name FROM pg_stat_activity WHERE application_name LIKE 'herald-%'"
        return [(int(pid), str(name)) for pid, name in connection.execute(asked)]


def _check_ins(installation: Running) -> int:
    gateway = Instance(installation.folder).choices.gateway_port
    with urllib.request.urlopen(f"http://127.0.0.1:{gateway}/device/v1/health", timeout=10) as answer:
        return int(json.load(answer)["check_ins"])
