"""What the gateway answers like while a command fires for 100,000 devices at once, and spread over twenty minutes.

Every device calls each quarter of an hour, at its own time, whether or not the gateway is quick; one that is given the
order says that it took it and that it runs, restarts, and says that it is done: three calls more.
"""

import asyncio
import heapq
import json
import os
import random
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime

import numpy as np
from aiohttp import ClientError, ClientSession, ClientTimeout, TCPConnector

from bench.checkins import _wait
from bench.launch import everyone
from bench.results import emit
from bench.world import ensure_world
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.firing import EVERYWHERE, fire
from herald.commands.models import CommandTemplate, Schedule, When
from herald.demo.fleet import secret_of
from herald.fleet.models import Device
from herald_launch import instance
from herald_launch.steps import ROOT, free_port

INTERVAL_SECONDS, SECONDS, SPREAD_MINUTES = 900.0, 240.0, 20
RESTART_SECONDS = (30.0, 90.0)
TARGET_MS = 250.0
MOST_AT_ONCE = 1_000_000


def run() -> None:
    """The same minutes of the same fleet: at rest, with everybody at once, and spread."""
    ensure_world()
    secrets = [secret_of(uid) for uid in Device.objects.order_by("id").values_list("uid", flat=True)]
    for name, spread in (
        ("at rest", None),
        ("everybody at once", 0),
        (f"spread over {SPREAD_MINUTES} min", SPREAD_MINUTES),
    ):
        Schedule.objects.all().delete()
        if spread is not None:
            _fire(spread)
        with running() as port:
            seen = asyncio.run(Storm(secrets, f"http://127.0.0.1:{port}").blow())
        p99, p50 = (float(np.percentile(seen.waits_ms, q)) for q in (99, 50))
        emit(
            "storm", f"p99 of a check-in, {name}", p99, "ms", target=f"<= {TARGET_MS:g} ms", met=p99 <= TARGET_MS,
            p50_ms=round(p50, 1), calls_per_second=round(len(seen.waits_ms) / SECONDS), failed=seen.failed,
            orders=seen.reports["accepted"], done=seen.reports["done"],
        )  # fmt: skip
    Schedule.objects.all().delete()


def _fire(spread_minutes: int) -> None:
    now = datetime.now(UTC)
    draft = ScheduleDraft(
        template=CommandTemplate.objects.get(key="restart"),
        include=[everyone(now)],
        when=When.REPEAT,
        rule="FREQ=DAILY",
        time_of_day=now.time().replace(second=0, microsecond=0),
        spread_minutes=spread_minutes,
        max_concurrent=MOST_AT_ONCE,
    )
    fire(create_schedule(draft, actor=None, now=now), EVERYWHERE, now, now=now)


@contextmanager
def running() -> Iterator[int]:
    """A gateway and a clock of their own; the port of the gateway."""
    port = free_port()
    commands = [instance.gateway("127.0.0.1", port), [sys.executable, str(ROOT / "manage.py"), "run_clock"]]
    started = [
        subprocess.Popen(c, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=os.environ) for c in commands
    ]
    try:
        _wait(port)
        yield port
    finally:
        for process in started:
            process.terminate()
        for process in started:
            process.wait()


@dataclass
class _Seen:
    """How long each call waited for its answer, from when it was due, in ms; and what was reported."""

    waits_ms: list[float] = field(default_factory=list)
    reports: Counter[str] = field(default_factory=Counter)
    failed: int = 0


class Storm:
    """Devices that call so often for so long."""

    def __init__(
        self, secrets: list[str], url: str, *, interval: float = INTERVAL_SECONDS, seconds: float = SECONDS
    ) -> None:
        self._seconds = seconds
        rng = random.Random(7)
        self._rng, self._secrets, self._url = rng, secrets, f"{url}/device/v1/check-in"
        self._due: list[tuple[float, int, str, str]] = [
            (rng.random() * interval, device, "", "") for device in range(len(secrets))
        ]
        heapq.heapify(self._due)
        self._counter = 0
        self._seen = _Seen()
        self._began = 0.0

    async def blow(self) -> _Seen:
        """Call for so many seconds, each call when it is due."""
        connector, timeout = TCPConnector(limit=0), ClientTimeout(total=30)
        async with ClientSession(connector=connector, timeout=timeout) as session:
            calls: set[asyncio.Task[None]] = set()
            self._began = time.monotonic()
            while (passed := time.monotonic() - self._began) < self._seconds:
                while self._due and self._due[0][0] <= passed:
                    at, device, order, phase = heapq.heappop(self._due)
                    task = asyncio.create_task(self._call(session, self._began + at, device, order, phase))
                    calls.add(task)
                    task.add_done_callback(calls.discard)
                await asyncio.sleep(0.002)
            await asyncio.gather(*calls)
        return self._seen

    async def _call(self, session: ClientSession, due: float, device: int, order: str, phase: str) -> None:
        body: dict[str, object] = {"firmware": "5.1.0", "health": {"ok": True}}
        if order:
            self._counter += 1
            body["report"] = {"order": order, "counter": self._counter, "phase": phase}
        headers = {"Authorization": f"Bearer {self._secrets[device]}", "Content-Type": "application/json"}
        try:
            async with session.post(self._url, data=json.dumps(body), headers=headers) as response:
                answer = await response.json()
                response.raise_for_status()
        except (ClientError, TimeoutError):
            self._seen.failed += 1
            return
        now = time.monotonic()
        self._seen.waits_ms.append((now - due) * 1000)
        given = answer.get("order", {}).get("id", "")
        if order:
            self._seen.reports[phase] += 1
        if given and not order:
            heapq.heappush(self._due, (now - self._began, device, given, "accepted"))
        elif phase == "accepted":
            heapq.heappush(self._due, (now - self._began, device, order, "running"))
        elif phase == "running":
            heapq.heappush(self._due, (now - self._began + self._rng.uniform(*RESTART_SECONDS), device, order, "done"))
