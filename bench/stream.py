"""How soon 200 listeners hear of a change, and what they cost the server."""

import asyncio
import json
import time
from pathlib import Path

import numpy as np
from aiohttp import ClientSession, ClientTimeout, TCPConnector
from tests.running import ENGINEER, Running

from bench.results import emit

DEVICES, LISTENERS, CHANGES = 2431, 200, 40
TARGET_MS, TARGET_MB = 1000.0, 300.0
#: as often as somebody changes something in a busy hour
PAUSE_SECONDS = 0.5


def run() -> None:
    """A fleet that calls, 200 event streams, and groups that are made meanwhile: from sending the change to each
    listener's hearing of it."""
    with Running.in_a_folder(devices=DEVICES, speed=1) as installation:
        secret = installation.token_of(ENGINEER)
        server = installation.processes()["server"]
        before = _resident_mb(server)
        waits_ms, lost, mb = asyncio.run(_listen(installation.url, secret, server))
    p95, p50 = (float(np.percentile(waits_ms, q)) for q in (95, 50))
    emit(
        "stream", f"p95 of hearing of a change, {LISTENERS} listeners, the change itself included", p95, "ms",
        target=f"<= {TARGET_MS:g} ms", met=p95 <= TARGET_MS and not lost, p50_ms=round(p50, 1), heard=len(waits_ms),
        lost=lost,
    )  # fmt: skip
    emit(
        "stream", f"memory of the server with {LISTENERS} listeners", mb, "MB", target=f"<= {TARGET_MB:g} MB",
        met=mb <= TARGET_MB, without_listeners_mb=round(before),
    )  # fmt: skip


async def _listen(url: str, secret: str, server: int) -> tuple[list[float], int, float]:
    """What each listener waited for each change, how often one never heard, and the server's memory at the end."""
    headers = {"Authorization": f"Bearer {secret}"}
    heard: dict[int, list[float]] = {}
    async with ClientSession(
        headers=headers, connector=TCPConnector(limit=0), timeout=ClientTimeout(total=None)
    ) as session:
        begun = [asyncio.Event() for _ in range(LISTENERS)]
        listeners = [asyncio.create_task(_listener(session, url, heard, event)) for event in begun]
        await asyncio.gather(*(event.wait() for event in begun))
        sent: dict[int, float] = {}
        for n in range(CHANGES):
            at = time.perf_counter()
            body = {"name": f"Heard of {n}", "rule": f"battery < {n}"}
            async with session.post(f"{url}/api/v1/groups", json=body) as answer:
                sent[int((await answer.json())["id"])] = at
            await asyncio.sleep(PAUSE_SECONDS)
        await asyncio.sleep(5)
        memory = _resident_mb(server)
        for listener in listeners:
            listener.cancel()
        await asyncio.gather(*listeners, return_exceptions=True)
    waits = [(at - sent[group]) * 1000 for group in sent for at in heard.get(group, [])]
    return waits, CHANGES * LISTENERS - len(waits), memory


async def _listener(session: ClientSession, url: str, heard: dict[int, list[float]], begun: asyncio.Event) -> None:
    """Listen until cancelled; of each group the moment at which it is first named."""
    known: set[int] = set()
    async with session.get(f"{url}/api/v1/events") as stream:
        assert stream.status == 200, stream.status
        async for line in stream.content:
            begun.set()
            if not line.startswith(b"data: "):
                continue
            event = json.loads(line[6:])
            if event["topic"] == "group" and event["id"] is not None and event["id"] not in known:
                known.add(event["id"])
                heard.setdefault(event["id"], []).append(time.perf_counter())


def _resident_mb(pid: int) -> float:
    """Physical memory of a process."""
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("VmRSS:")) / 1024
