"""A private PostgreSQL cluster on the loopback, in an ignored folder, on a port of its own.

It runs as the user who may: `postgres` where we are root, else ourselves. Whoever connects needs the password that is
kept beside it, which only we can read: other users of the machine reach the loopback as well. A cluster that the
machine has already is left alone. A killed server leaves a pid file behind; it counts only while its pid is a
live server of our own folder, so that a reused pid is never signalled.
"""

import contextlib
import fcntl
import hashlib
import os
import pwd
import secrets
import shutil
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import psycopg
from psycopg import sql

from herald_launch.install import postgres_bin
from herald_launch.steps import StepFailed, free_port, say

FAST = ("fsync=off", "synchronous_commit=off", "full_page_writes=off")  # tests only: a crash may lose the cluster
SETTINGS = (
    "listen_addresses=127.0.0.1",
    "unix_socket_directories=''",
    "max_connections=100",
    "shared_buffers=512MB",
    "max_wal_size=4GB",
)
START_TRIES = 3
#: a server that was killed reads its log again before it answers
RECOVERY_SECONDS = 60.0


class Cluster:
    """The cluster of one data folder."""

    def __init__(self, folder: Path, *, fast: bool = False) -> None:
        self.folder = _reachable(folder)
        self.data = self.folder / "data"
        self.fast = fast
        found = postgres_bin()
        if found is None:
            raise StepFailed("PostgreSQL is not installed.")
        self.bin = found

    @property
    def port(self) -> int | None:
        file = self.folder / "port"
        return int(file.read_text()) if file.exists() and file.read_text().strip() else None

    @property
    def _password_file(self) -> Path:
        return self.folder / "password"

    def url(self, database: str) -> str:
        """Where the database is, with the password that opens it."""
        file = self._password_file
        password = f":{file.read_text().strip()}" if file.exists() else ""
        return f"postgres://postgres{password}@127.0.0.1:{self.port}/{database}"

    def address(self, database: str) -> str:
        """Where the database is, to be shown."""
        return f"postgres://postgres@127.0.0.1:{self.port}/{database}"

    def is_up(self) -> bool:
        return self.port is not None and self._answers() and self._owner_pid() is not None

    def start(self, *, unless: Callable[[], bool] = lambda: False) -> None:
        """Start it, making it first where it does not exist; does nothing where it is up, or where `unless` has come
        true meanwhile.

        Raises:
            StepFailed: with the end of its log.
        """
        self.folder.mkdir(parents=True, exist_ok=True)
        with self._locked():
            self._clear_stale()
            if self.is_up() or self._comes_up(unless):
                self._ask_for_password()
                return
            if not (self.data / "PG_VERSION").exists():
                self._init()
            log = self.folder / "log"
            log.write_text("")
            _own(log)
            for attempt in range(START_TRIES):
                if unless():
                    return
                port = self.port if attempt == 0 and self.port else free_port()
                if self._try_start(port):
                    self._keep_port(port)
                    self._ask_for_password()
                    return
                if self._comes_up(unless):  # another was a moment faster
                    return
            raise StepFailed("PostgreSQL would not start:\n" + "\n".join(log.read_text().splitlines()[-5:]))

    def _keep_port(self, port: int) -> None:
        """In one step, as others read it meanwhile."""
        new = self.folder / "port.new"
        new.write_text(str(port))
        new.replace(self.folder / "port")

    def _comes_up(self, unless: Callable[[], bool]) -> bool:
        """Wait for a server that somebody started before, and that may still be recovering; whether it answers."""
        until = time.monotonic() + RECOVERY_SECONDS
        while self._owner_pid() is not None and time.monotonic() < until and not unless():
            if self._answers():
                return True
            time.sleep(0.2)
        return False

    def _init(self) -> None:
        say("making a private PostgreSQL cluster")
        shutil.rmtree(self.data, ignore_errors=True)
        self.data.mkdir(parents=True)
        self.data.chmod(0o700)
        _own(self.data)
        self._password_file.unlink(missing_ok=True)
        self._write_password()
        command = [
            "initdb",
            "-D",
            str(self.data),
            "-U",
            "postgres",
            "-A",
            "scram-sha-256",
            f"--pwfile={self._password_file}",
            "-E",
            "UTF8",
            "--locale=C.UTF-8",
            "--no-sync",
        ]
        done = self._run(command)
        if done.returncode:
            raise StepFailed(f"initdb failed:\n{done.stdout}")

    def _write_password(self) -> str:
        """A new password, in a file that only the user who runs the server, and root, can read."""
        password = secrets.token_urlsafe(24)
        descriptor = os.open(self._password_file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(descriptor, "w") as file:
            file.write(password + "\n")
        _own(self._password_file)
        return password

    def _ask_for_password(self) -> None:
        """Have a cluster that was made by an earlier release, and lets in whoever asks, want a password too."""
        if self._password_file.exists():
            return
        with psycopg.connect(self.address("postgres"), autocommit=True) as connection:
            password = self._write_password()
            statement = sql.SQL("ALTER ROLE postgres PASSWORD {}").format(sql.Literal(password))
            connection.execute("SET password_encryption = 'scram-sha-256'")
            connection.execute(statement)
            rules = self.data / "pg_hba.conf"
            rules.write_text("local all all scram-sha-256\nhost all all 127.0.0.1/32 scram-sha-256\n")
            connection.execute("SELECT pg_reload_conf()")

    def _try_start(self, port: int) -> bool:
        options = " ".join(f"-c {s}" for s in (*SETTINGS, *(FAST if self.fast else ())))
        log = str(self.folder / "log")
        command = [
            "pg_ctl",
            "-D",
            str(self.data),
            "-w",
            "-t",
            "30",
            "-s",
            "-l",
            log,
            "-o",
            f"-p {port} {options}",
            "start",
        ]
        return self._run(command).returncode == 0

    def stop(self) -> None:
        """Stop it, if it runs."""
        self._clear_stale()
        if self._owner_pid() is not None:
            self._run(["pg_ctl", "-D", str(self.data), "-s", "-m", "fast", "-w", "stop"])

    def destroy(self) -> None:
        """Stop it and delete all its data."""
        if self.data.exists():
            self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)

    def ensure_database(self, name: str, *, fresh: bool = False) -> None:
        """Make a database where there is none; `fresh` throws away the one that is there."""
        with psycopg.connect(self.url("postgres"), autocommit=True) as connection:
            if fresh:
                connection.execute(f'DROP DATABASE IF EXISTS "{name}" WITH (FORCE)')
            if not connection.execute("SELECT 1 FROM pg_database WHERE datname = %s", [name]).fetchone():
                connection.execute(f'CREATE DATABASE "{name}"')

    def drop_database(self, name: str) -> None:
        """Throw a database away, whoever is connected to it."""
        with psycopg.connect(self.url("postgres"), autocommit=True) as connection:
            connection.execute(sql.SQL("DROP DATABASE IF EXISTS {} WITH (FORCE)").format(sql.Identifier(name)))

    # -- processes ------------------------------------------------------------------------------

    def _run(self, command: list[str]) -> "subprocess.CompletedProcess[str]":
        command = [str(self.bin / command[0]), *command[1:]]
        if os.geteuid() == 0:
            command = ["runuser", "-u", "postgres", "--", *command]
        return subprocess.run(
            command,
            cwd="/",
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            check=False,
        )

    def _answers(self) -> bool:
        command = [str(self.bin / "pg_isready"), "-q", "-h", "127.0.0.1", "-p", str(self.port), "-t", "2"]
        return subprocess.run(command, check=False).returncode == 0

    def _owner_pid(self) -> int | None:
        """The pid of the live server of this folder."""
        try:
            pid = int((self.data / "postmaster.pid").read_text().splitlines()[0])
            command = Path(f"/proc/{pid}/cmdline").read_bytes()  # empty for a zombie
        except (OSError, ValueError, IndexError):
            return None
        return pid if str(self.data).encode() in command else None

    def _clear_stale(self) -> None:
        """Remove what a killed server left: its pid file, and backends that are still busy."""
        if not (self.data / "postmaster.pid").exists() or self._owner_pid() is not None:
            return
        (self.data / "postmaster.pid").unlink(missing_ok=True)
        for process in Path("/proc").glob("[0-9]*"):
            with contextlib.suppress(OSError):  # gone meanwhile, or not ours
                if os.readlink(process / "cwd") == str(self.data):
                    os.kill(int(process.name), signal.SIGQUIT)
        time.sleep(0.2)

    @contextlib.contextmanager
    def _locked(self) -> Iterator[None]:
        with (self.folder / "lock").open("w") as file:
            fcntl.flock(file, fcntl.LOCK_EX)
            yield


def _own(path: Path) -> None:
    """Give a path to the user who runs the server."""
    if os.geteuid() == 0:
        user = pwd.getpwnam("postgres")
        os.chown(path, user.pw_uid, user.pw_gid)


def _reachable(folder: Path) -> Path:
    """The folder, or another one where the user `postgres` cannot get at it (a home closed to others)."""
    folder = folder.resolve()
    if os.geteuid() != 0:
        return folder
    parent = folder
    while not parent.exists():
        parent = parent.parent
    check = ["runuser", "-u", "postgres", "--", "test", "-x", str(parent)]
    if subprocess.run(check, cwd="/", check=False, stderr=subprocess.DEVNULL).returncode == 0:
        return folder
    return Path("/var/tmp") / f"brisk-herald-{hashlib.sha256(str(folder).encode()).hexdigest()[:12]}"
