"""Check-ins a second over HTTP, answered after the commit, beside a no-op on the same path."""

import os
import re
import subprocess
import tempfile
import time
import urllib.request
from collections.abc import Sequence
from pathlib import Path

from bench.results import emit
from bench.world import ensure_world
from herald.demo.fleet import secret_of
from herald.fleet.models import Device
from herald_launch import instance
from herald_launch.install import ensure_debian
from herald_launch.steps import free_port

SECONDS = 8
#: wrk runs this in each of its threads: another device at each request, with its facts
SCRIPT = """
local secrets = {}
for line in io.lines("%s") do secrets[#secrets + 1] = line end
local n = math.random(#secrets)
request = function()
  n = n %% #secrets + 1
  local facts = string.format('{"battery":%%d,"uplink":"cellular","free_space_mb":200,"boot_count":7}', n %% 60 + 30)
  local body = '{"firmware":"5.1.0","health":{"ok":true},"facts":' .. facts .. '}'
  return wrk.format("POST", "%s", {["Authorization"] = "Bearer " .. secrets[n]}, body)
end
"""


def run() -> None:
    """One gateway process and two, at 256 connections."""
    import shutil

    ensure_debian("wrk", present=shutil.which("wrk") is not None)
    ensure_world()
    secrets = [secret_of(u) for u in Device.objects.order_by("?").values_list("uid", flat=True)[:20_000]]
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "secrets"
        file.write_text("\n".join(secrets))
        for processes, target, connections in ((1, 5000, 256), (2, 8000, 256)):
            _measure(Path(folder), file, processes, target, connections)


def _measure(folder: Path, secrets: Path, processes: int, target: int, connections: int) -> None:
    ports = [free_port() for _ in range(processes)]
    gateways = [
        subprocess.Popen(instance.gateway("127.0.0.1", port), stdout=subprocess.DEVNULL, env=os.environ)
        for port in ports
    ]
    try:
        for port in ports:
            _wait(port)
        _wrk(folder, secrets, ports, "/device/v1/check-in", connections)  # every device has called once
        no_op, no_op_p99 = _wrk(folder, secrets, ports, "/device/v1/no-op", connections)
        rate, p99 = _wrk(folder, secrets, ports, "/device/v1/check-in", connections)
    finally:
        for gateway in gateways:
            gateway.terminate()
        for gateway in gateways:
            gateway.wait()
    ratio = rate / no_op
    emit(
        "checkins",
        f"check-ins stored and answered, {processes} process(es), {connections} connections",
        rate,
        "1/s",
        beside=f"no-op on the same path, {no_op:.0f}/s, p99 {no_op_p99:.0f} ms",
        ratio=ratio,
        target=f">= {target}/s, p99 <= 250 ms" + (", ratio >= 0.35" if processes == 1 else ""),
        met=rate >= target and p99 <= 250 and (processes > 1 or ratio >= 0.35),
        p99_ms=round(p99, 1),
    )


def _wait(port: int) -> None:
    for _ in range(200):
        try:
            urllib.request.urlopen(f"http://127.0.0.1:{port}/device/v1/health", timeout=1).close()
            return
        except OSError:
            time.sleep(0.1)
    raise RuntimeError("the gateway did not come up")


def _wrk(folder: Path, secrets: Path, ports: Sequence[int], path: str, connections: int) -> tuple[float, float]:
    """Requests a second of all ports together, and the worst p99 in ms; the connections are shared out among them."""
    script = folder / "check-in.lua"
    script.write_text(SCRIPT % (secrets, path))
    sizes = ["-t1", f"-c{connections // len(ports)}", f"-d{SECONDS}s", "--latency"]
    callers = [
        subprocess.Popen(
            ["wrk", *sizes, "-s", str(script), f"http://127.0.0.1:{port}"],
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )
        for port in ports
    ]
    told = [_read(caller.communicate()[0]) for caller in callers]
    return sum(rate for rate, _ in told), max(p99 for _, p99 in told)


def _read(printed: str) -> tuple[float, float]:
    rate = re.search(r"Requests/sec:\s+([\d.]+)", printed)
    p99 = re.search(r"99%\s+([\d.]+)(us|ms|s)", printed)
    if rate is None or p99 is None or "Non-2xx" in printed:
        raise RuntimeError(printed)
    return float(rate[1]), float(p99[1]) * {"us": 0.001, "ms": 1.0, "s": 1000.0}[p99[2]]
