"""Steps of set-up: each says what it does in a line, and a failure says which step, why and the remedy."""

import os
import random
import shutil
import socket
import subprocess
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent.parent
PYTHON = sys.executable
TAIL_LINES = 15
LOWEST_PORT, HIGHEST_PORT = 10240, 65535
PORT_TRIES = 200


class StepFailed(Exception):
    """A step could not be done; the message says why and the remedy."""


def say(text: str) -> None:
    print(f"· {text}", flush=True)


def run(
    command: Sequence[str],
    *,
    doing: str,
    advice: str = "",
    env: Mapping[str, str] | None = None,
    cwd: Path = ROOT,
    quiet: bool = True,
) -> str:
    """Run a command to its end; what it printed.

    Raises:
        StepFailed: it could not be started or ended badly.
    """
    try:
        done = subprocess.run(
            command,
            cwd=cwd,
            env={**os.environ, **(env or {})},
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE if quiet else None,
            stderr=subprocess.STDOUT if quiet else None,
            text=True,
            check=False,
        )
    except OSError as error:
        raise StepFailed(f"{doing}: {error}. {advice}".strip()) from error
    if done.returncode:
        tail = "\n".join((done.stdout or "").splitlines()[-TAIL_LINES:])
        raise StepFailed(f"{doing} failed (exit {done.returncode}).\n{tail}\n{advice}".strip())
    return done.stdout or ""


def as_root(command: Sequence[str]) -> list[str]:
    """The command, through sudo where we are not root."""
    if os.geteuid() == 0:
        return list(command)
    if shutil.which("sudo"):
        return ["sudo", *command]
    raise StepFailed(f"this step needs root, and there is no sudo; run as root: {' '.join(command)}")


def free_port() -> int:
    """A port of the loopback that nobody listens on now, and that no outgoing connection is given meanwhile.

    A port that the system picks would be of the range it also picks from for outgoing connections: one of those may
    hold it when the program that was promised the port comes to bind it.

    Raises:
        StepFailed: not one of many tries was free.
    """
    for port in random.sample(range(LOWEST_PORT, HIGHEST_PORT + 1), PORT_TRIES):
        if not is_outgoing(port) and port_is_free(port):
            return port
    raise StepFailed("no free port was found on 127.0.0.1")


def is_outgoing(port: int) -> bool:
    """Whether an outgoing connection of this machine may be given the port."""
    first, last = _outgoing_ports()
    return first <= port <= last


def _outgoing_ports() -> tuple[int, int]:
    """The first and last port of the range that the system picks from for outgoing connections."""
    first, last = Path("/proc/sys/net/ipv4/ip_local_port_range").read_text().split()
    return int(first), int(last)


def port_is_free(port: int, host: str = "127.0.0.1") -> bool:
    with socket.socket() as s:
        s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            s.bind((host, port))
        except OSError:
            return False
    return True
