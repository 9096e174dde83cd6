"""Keeping the programs running: started together, restarted when they die, ended together."""

import contextlib
import ctypes
import fcntl
import os
import signal
import subprocess
import threading
import time
from pathlib import Path
from typing import IO

from herald_launch.instance import Instance
from herald_launch.steps import StepFailed, say

STOP_SECONDS = 8.0
LOOK_SECONDS = 0.3
DATABASE_LOOK_SECONDS = 2.0
MAX_BACKOFF_SECONDS = 5.0
_PR_SET_PDEATHSIG = 1
_libc = ctypes.CDLL(None)


def _die_with_parent() -> None:
    """A supervisor that is killed takes its programs with it, so that the next start finds none."""
    _libc.prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)


class Supervisor:
    """Runs the programs of an instance until told to stop."""

    def __init__(self, instance: Instance) -> None:
        self.instance = instance
        self.stopping = threading.Event()
        self._children: dict[str, subprocess.Popen[bytes]] = {}
        self._failures: dict[str, int] = {}
        self._due: dict[str, float] = {}
        self._lock: IO[str] | None = None

    def take_lock(self) -> None:
        """Make sure that nobody else supervises this instance.

        Raises:
            StepFailed: somebody does.
        """
        self.instance.prepare_folders()
        lock = (self.instance.run / "supervisor.lock").open("a")
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            lock.close()
            raise StepFailed("it runs already; ./herald stop ends it") from error
        self._lock = lock
        (self.instance.run / "supervisor.pid").write_text(str(os.getpid()))

    def run(self) -> None:
        """Start everything, and restart what dies, until `stopping` is set; then end everything."""
        environment = {**os.environ, **self.instance.environment()}
        programs = self.instance.programs()
        # in a thread, as a database that stands still takes long to say so, and a program may die meanwhile
        database = threading.Thread(target=self._look_after_database, name="database")
        database.start()
        try:
            while not self.stopping.is_set():
                environment = self._follow_database(environment)
                for name, command in programs.items():
                    self._look_after(name, command, environment)
                self.stopping.wait(LOOK_SECONDS)
        finally:
            self.stopping.set()
            self._end(database)

    def _follow_database(self, environment: dict[str, str]) -> dict[str, str]:
        """The environment as it is now. A database that had to come back on another port takes every program with it,
        as none would find it."""
        now = {**os.environ, **self.instance.environment()}
        if now != environment:
            self._log("the database is on another port; every program starts again")
            for child in self._children.values():
                child.terminate()
        return now

    def _look_after(self, name: str, command: list[str], environment: dict[str, str]) -> None:
        child = self._children.get(name)
        if child is not None:
            if child.poll() is None:
                return
            del self._children[name]
            failures = self._failures[name] = self._failures.get(name, 0) + 1
            wait = min(MAX_BACKOFF_SECONDS, 0.5 * 2 ** min(failures - 1, 5))
            self._due[name] = time.monotonic() + wait
            self._log(f"{name} ended with {child.returncode}; it starts again in {wait:g} s")
        if time.monotonic() >= self._due.get(name, 0.0):
            with (self.instance.logs / f"{name}.log").open("ab") as log:
                self._children[name] = subprocess.Popen(
                    command,
                    stdin=subprocess.DEVNULL,
                    stdout=log,
                    stderr=subprocess.STDOUT,
                    env={**environment, "PGAPPNAME": f"herald-{name}"},  # so that the database says whom it works for
                    start_new_session=True,
                    preexec_fn=_die_with_parent,
                )
            (self.instance.run / f"{name}.pid").write_text(str(self._children[name].pid))

    def _look_after_database(self) -> None:
        while not self.stopping.wait(DATABASE_LOOK_SECONDS):
            if self.instance.cluster.is_up():
                continue
            self._log("PostgreSQL does not answer; it is started again")
            try:
                self.instance.cluster.start(unless=self.stopping.is_set)
            except StepFailed as failure:
                self._log(str(failure))

    def _end(self, database: threading.Thread) -> None:
        for child in self._children.values():
            with contextlib.suppress(ProcessLookupError):
                child.terminate()
        deadline = time.monotonic() + STOP_SECONDS
        for name, child in self._children.items():
            try:
                child.wait(max(0.1, deadline - time.monotonic()))
            except subprocess.TimeoutExpired:
                self._log(f"{name} did not end by itself and was killed")
                child.kill()
                child.wait()
            (self.instance.run / f"{name}.pid").unlink(missing_ok=True)
        database.join()
        self.instance.cluster.stop()
        (self.instance.run / "supervisor.pid").unlink(missing_ok=True)
        if self._lock:
            self._lock.close()

    def _log(self, text: str) -> None:
        with (self.instance.logs / "supervisor.log").open("a") as log:
            log.write(f"{time.strftime('%F %T')} {text}\n")


def supervisor_pid(instance: Instance) -> int | None:
    """The pid of whoever supervises the instance; None where nobody does."""
    lock_file, pid_file = instance.run / "supervisor.lock", instance.run / "supervisor.pid"
    if not lock_file.exists():
        return None
    with lock_file.open("a") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return int(pid_file.read_text()) if pid_file.exists() else None
    return None


def stop(instance: Instance) -> bool:
    """End everything of the instance; whether anything ran."""
    pid = supervisor_pid(instance)
    if pid is None:
        was_up = instance.cluster.is_up()
        instance.cluster.stop()
        return was_up
    os.kill(pid, signal.SIGTERM)
    deadline = time.monotonic() + STOP_SECONDS + 10
    while supervisor_pid(instance) is not None:
        if time.monotonic() > deadline:
            say("it did not end in time and is killed")
            os.kill(pid, signal.SIGKILL)
            time.sleep(1)
            break
        time.sleep(0.1)
    instance.cluster.stop()
    return True


def child_pids(instance: Instance) -> dict[str, int]:
    """The programs that run now, with their pids."""
    found = {}
    for file in sorted(instance.run.glob("*.pid")):
        with contextlib.suppress(OSError, ValueError):
            pid = int(file.read_text())
            if Path(f"/proc/{pid}/cmdline").read_bytes():
                found[file.stem] = pid
    return found
