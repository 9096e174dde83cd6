"""What an installation at rest takes: CPU of each process at speed 1, with nothing moving."""

import json
import os
import time
import urllib.request
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from tests.running import Running

from bench.results import emit
from herald.demo.fleet import secret_of

#: longer than anything that is looked at now and then waits
SETTLE_SECONDS = 150
SECONDS = 120
#: calls of single devices, so far apart that none is stored together with another
LONE_CALLS, LONE_PAUSE_SECONDS = 240, 0.25
TICKS = os.sysconf("SC_CLK_TCK")
CLOCK_TARGET = 0.02
CHECK_IN_TARGET_MS = 6.0


def run() -> None:
    """2,431 devices that call every quarter of an hour or so, and 100,000 of which none calls."""
    _measure(2431, fleet=True)
    _measure(100_000, fleet=False)


def _measure(devices: int, *, fleet: bool) -> None:
    with Running.in_a_folder(devices=devices, speed=1, fleet=fleet) as installation:
        if not fleet:
            _silence(installation)
        time.sleep(SETTLE_SECONDS)
        before, began = _cpu_seconds(installation), time.monotonic()
        time.sleep(SECONDS)
        after, passed = _cpu_seconds(installation), time.monotonic() - began
        lone = _lone_call_ms(installation) if not fleet else None
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
    if lone is not None:
        emit(
            "idle",
            f"CPU of the gateway for a lone check-in, here {1 / LONE_PAUSE_SECONDS:g} a second of 50 devices",
            lone,
            "ms",
            target=f"< {CHECK_IN_TARGET_MS:g} ms",
            met=lone < CHECK_IN_TARGET_MS,
        )


def _lone_call_ms(installation: Running) -> float:
    """CPU time that the gateway takes for a call that comes alone, as nearly all of a fleet at rest do: what the
    device says is what it said before, and each tenth time its battery has changed."""
    with installation.database() as connection:
        rows = connection.execute("SELECT uid FROM fleet_device WHERE admission = 'admitted' ORDER BY id LIMIT 50")
        secrets = [secret_of(str(uid)) for (uid,) in rows]
    gateway = installation.processes()["gateway"]
    for secret in secrets:  # what is new to the server is another matter
        _call(installation, secret, {"battery": 80})
    before = _own(gateway)
    for n in range(LONE_CALLS):
        _call(installation, secrets[n % len(secrets)], {"battery": 40 + n // 10} if n % 10 == 0 else None)
        time.sleep(LONE_PAUSE_SECONDS)
    return (_own(gateway) - before) / LONE_CALLS * 1000


def _call(installation: Running, secret: str, facts: dict[str, Any] | None) -> None:
    said = {"firmware": "5.1.0", "health": {"ok": True}, "boot": "7", **({} if facts is None else {"facts": facts})}
    request = urllib.request.Request(
        f"http://127.0.0.1:{installation.gateway_port}/device/v1/check-in",
        data=json.dumps(said).encode(),
        headers={"Authorization": f"Bearer {secret}"},
    )
    urllib.request.urlopen(request, timeout=10).close()


def _silence(installation: Running) -> None:
    """Let the last call of every device lie half a day back, so that none falls silent while this is measured."""
    with installation.database() as connection:
        connection.execute("UPDATE fleet_device SET last_check_in = last_check_in - interval '12 hours'")
        connection.execute("VACUUM ANALYZE fleet_device")


def _cpu_seconds(installation: Running) -> Mapping[str, float]:
    """CPU time that each process has taken since it began; the database as a whole, and for each of the others."""
    found = {name: _own(pid) for name, pid in installation.processes().items() if name != "supervisor"}
    found["database"] = sum(_own(pid, with_ended=True) for pid in installation.database_processes())
    for pid, name in _backends(installation):
        key = f"database for {name.removeprefix('herald-')}"
        found[key] = found.get(key, 0.0) + _own(pid, with_ended=True)
    return found


def _own(pid: int, *, with_ended: bool = False) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    return sum(int(f) for f in fields[11 : 15 if with_ended else 13]) / TICKS


def _backends(installation: Running) -> list[tuple[int, str]]:
    """The database's processes that serve ours, with whom they serve."""
    with installation.database() as connection:
        asked = "SELECT pid, application_name FROM pg_stat_activity WHERE application_name LIKE 'herald-%'"
        return [(int(pid), str(name)) for pid, name in connection.execute(asked)]
