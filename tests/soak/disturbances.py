"""What is done to a running installation, how it must show, and how it is put right."""

import os
import signal
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from typing import Any

from tests.running import Refused, Running
from tests.soak.proxy import Link, Proxy

#: how long something may take to be shown, and to be gone again once it is put right
SHOWN_SECONDS = 240.0
GONE_SECONDS = 240.0
LOOK_SECONDS = 1.0
#: what is shown when the server does not answer, or says that it has no database
NO_ANSWER, NO_DATABASE = "no answer", "no database"


@dataclass(frozen=True)
class Disturbance:
    """Something that goes wrong for a while. `shows` are kinds of trouble of which one must be on Now meanwhile; with
    none it is over so soon that nothing need be."""

    name: str
    carry_out: Callable[[Running, Proxy], Any]
    shows: frozenset[str] = frozenset()


def kinds_shown(installation: Running) -> set[str]:
    """The kinds of trouble on Now; that the server does not answer, or has no database, is a kind too."""
    try:
        return {t["kind"] for t in installation.api("GET", "now", seconds=5.0)["troubles"]}
    except Refused as refused:
        if refused.code != "unavailable":
            raise
        return {NO_DATABASE}
    except OSError:
        return {NO_ANSWER}


def wait_until_well(installation: Running) -> None:
    """Wait until nothing is wrong on Now.

    Raises:
        AssertionError: something was still there after long.
    """
    deadline = time.monotonic() + GONE_SECONDS
    while shown := kinds_shown(installation):
        assert time.monotonic() < deadline, f"still on Now after {GONE_SECONDS:g} s: {sorted(shown)}"
        time.sleep(LOOK_SECONDS)


def disturb(installation: Running, proxy: Proxy, what: Disturbance) -> float:
    """Let something go wrong until it is shown, put it right, and wait until it is gone; how many seconds it took to be
    shown.

    Raises:
        AssertionError: it was not shown, or is not gone, after long.
    """
    began = time.monotonic()
    with what.carry_out(installation, proxy):
        while what.shows and not what.shows & (shown := kinds_shown(installation)):
            waited = time.monotonic() - began
            assert waited < SHOWN_SECONDS, f"{what.name}: not shown after {waited:.0f} s, but {sorted(shown)}"
            time.sleep(LOOK_SECONDS)
        took = time.monotonic() - began
    wait_until_well(installation)
    return took


def killed(name: str) -> Callable[[Running, Proxy], Any]:
    """A process ends with -9; the supervisor starts it again."""

    @contextmanager
    def carry_out(installation: Running, _: Proxy) -> Iterator[None]:
        before = installation.processes()[name]
        installation.kill(name)
        yield
        deadline = time.monotonic() + GONE_SECONDS
        while installation.processes().get(name, before) == before:
            assert time.monotonic() < deadline, f"{name} was not started again"
            time.sleep(LOOK_SECONDS)

    return carry_out


@contextmanager
def supervisor_killed(installation: Running, _: Proxy) -> Iterator[None]:
    """All processes end with the one that looks after them; somebody starts it again."""
    installation.kill("supervisor")
    yield
    time.sleep(1.0)
    installation.start()


@contextmanager
def database_killed(installation: Running, _: Proxy) -> Iterator[None]:
    """PostgreSQL ends with -9; the supervisor starts it again."""
    installation.kill_database()
    yield


def paused(name: str) -> Callable[[Running, Proxy], Any]:
    """A process stands still, as on a machine that swaps."""

    @contextmanager
    def carry_out(installation: Running, _: Proxy) -> Iterator[None]:
        pid = installation.processes()[name]
        os.kill(pid, signal.SIGSTOP)
        try:
            yield
        finally:
            os.kill(pid, signal.SIGCONT)

    return carry_out


@contextmanager
def worker_paused_with_work(installation: Running, proxy: Proxy) -> Iterator[None]:
    """The worker stands still, and there is a job for it."""
    with paused("worker")(installation, proxy):
        installation.upload("imports", "waits.csv", "uid,name\nsoak-1,Soak one\n")
        yield


@contextmanager
def database_stopped(installation: Running, _: Proxy) -> Iterator[None]:
    """Every process of PostgreSQL stands still: connections stay, and nothing is answered."""
    stopped = []
    try:
        for pid in installation.database_processes():
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGSTOP)
                stopped.append(pid)
        yield
    finally:
        for pid in stopped:
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGCONT)


def link(state: Link, seconds: float | None = None) -> Callable[[Running, Proxy], Any]:
    """The fleet's link to its gateway is cut, or hangs; for some seconds, or until it is shown."""

    @contextmanager
    def carry_out(_: Running, proxy: Proxy) -> Iterator[None]:
        proxy.set(state)
        try:
            if seconds is not None:
                time.sleep(seconds)
            yield
        finally:
            proxy.set(Link.WHOLE)

    return carry_out


SILENT = frozenset({"fleet-silent"})
DISTURBANCES = (
    *(
        Disturbance(f"kill -9 of the {name}", killed(name))
        for name in ("clock", "gateway", "worker", "server", "fleet")
    ),
    Disturbance("kill -9 of the supervisor", supervisor_killed),
    Disturbance("kill -9 of the database", database_killed),
    Disturbance("the clock stands still", paused("clock"), frozenset({"clock-stopped"})),
    Disturbance("the gateway stands still", paused("gateway"), frozenset({"gateway-stopped"})),
    Disturbance("the server stands still", paused("server"), frozenset({NO_ANSWER})),
    Disturbance("the worker stands still", worker_paused_with_work, frozenset({"jobs-wait"})),
    Disturbance("the fleet stands still", paused("fleet"), SILENT),
    Disturbance("the database stands still", database_stopped, frozenset({NO_DATABASE, NO_ANSWER})),
    Disturbance("the network is cut", link(Link.CUT), SILENT),
    Disturbance("the network hangs", link(Link.HANGS), SILENT),
    Disturbance("the network is cut for a moment", link(Link.CUT, 5.0)),
    Disturbance("the network hangs for a moment", link(Link.HANGS, 8.0)),
)
