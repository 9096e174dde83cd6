"""A whole installation for a test: real processes, real sockets, a simulated fleet of its own."""

import atexit
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import psycopg

from herald_launch.instance import Instance
from herald_launch.postgres import Cluster
from herald_launch.steps import ROOT, free_port

ENGINEER = "engineer@larkfield.example"
PATIENCE_SECONDS = 400.0


class Refused(OSError):
    """The server's answer was a problem; it says which."""

    def __init__(self, error: urllib.error.HTTPError) -> None:
        said = error.read().decode(errors="replace")
        super().__init__(f"{error.url}: {error.code} {said[:1500]}")
        self.status = error.code
        is_problem = error.headers.get_content_type() == "application/problem+json"
        self.code = json.loads(said)["type"].rsplit(":", 1)[-1] if is_problem else ""


#: how many devices the installations of the browser's tests have
DEVICES = 260
#: by its number of devices: a folder with all that a start with the demo sets up, to begin from
_prepared: dict[int, Path] = {}
if "HERALD_TEST_PREPARED" in os.environ:  # it was prepared while other tests ran
    _prepared[DEVICES] = Path(os.environ["HERALD_TEST_PREPARED"])


def prepare_in(folder: Path, devices: int = DEVICES) -> None:
    """Set up in a folder what a first start with the demo would."""
    folder.chmod(0o755)
    first = Running(folder, devices=devices, speed=1.0, fleet=False)
    first.start()
    first.stop()
    (folder / "choices.json").unlink()


def _prepare(installation: "Running") -> None:
    """Give an installation what its first start would set up. The demo lives through eight weeks for that, which takes
    longer than most tests, so it is done once for all of a run that have as many devices."""
    if installation.devices not in _prepared:
        folder = Path(tempfile.mkdtemp(prefix="herald-prepared-", dir="/var/tmp"))
        atexit.register(shutil.rmtree, folder, ignore_errors=True)
        prepare_in(folder, installation.devices)
        _prepared[installation.devices] = folder
    # with its owner: PostgreSQL starts only where its files are its own
    subprocess.run(["cp", "-a", f"{_prepared[installation.devices]}/.", str(installation.folder)], check=True)


class Running:
    """An installation in a folder of its own, with a small fleet whose time runs fast."""

    def __init__(
        self,
        folder: Path,
        *,
        devices: int,
        speed: float,
        fleet: bool = True,
        fleet_port: int = 0,
        demo: bool = True,
        variables: Mapping[str, str] | None = None,
    ) -> None:
        self.folder = folder
        self.devices, self.speed, self.fleet, self.demo = devices, speed, fleet, demo
        #: what it is started with besides; tests ask as often as they like
        self.variables = {"HERALD_TOKEN_CALLS": "0", **(variables or {})}
        #: where the fleet calls, if not at the gateway
        self.fleet_port = fleet_port
        self.port = free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self._token = ""

    def _herald(self, *arguments: str, **also: str) -> str:
        environment = {k: v for k, v in os.environ.items() if not k.startswith("HERALD_") and k != "DATABASE_URL"}
        done = subprocess.run(
            [str(ROOT / "herald"), *arguments, "--data", str(self.folder)],
            capture_output=True,
            text=True,
            env={**environment, **also},
            check=False,
        )
        assert done.returncode == 0, done.stdout + done.stderr
        return done.stdout

    def start(self) -> str:
        """Start it; what that said."""
        asked = {
            "--port": self.port,
            "--devices": self.devices,
            "--speed": self.speed,
            "--fleet-port": self.fleet_port,
        }
        fleet = "--fleet" if self.fleet else "--no-fleet"
        demo = "--demo" if self.demo else "--no-demo"
        words = (str(word) for pair in asked.items() for word in pair)
        return self._herald("start", "--detach", fleet, demo, *words, **self.variables)

    @classmethod
    @contextmanager
    def in_a_folder(
        cls, *, devices: int = 0, speed: float = 1.0, demo: bool = True, **also: Any
    ) -> "Iterator[Running]":
        """An installation in a folder of its own, gone with it at the end."""
        with tempfile.TemporaryDirectory(prefix="herald-browser-", dir="/var/tmp") as folder:
            Path(folder).chmod(0o755)
            if threading.current_thread() is threading.main_thread():
                # whoever ends the run in the middle must not leave the installation running
                signal.signal(signal.SIGTERM, lambda *_: sys.exit("ended by SIGTERM"))
            installation = cls(Path(folder), devices=devices, speed=speed, demo=demo, **also)
            try:
                if demo:
                    _prepare(installation)
                installation.start()
                yield installation
            finally:
                installation.destroy()

    def stop(self) -> None:
        self._herald("stop")

    def destroy(self) -> None:
        self.stop()
        Cluster(self.folder / "postgres").destroy()

    def processes(self) -> dict[str, int]:
        return dict(json.loads(self._herald("status", "--json"))["processes"])

    def kill(self, name: str) -> None:
        """kill -9 of one process."""
        os.kill(self.processes()[name], signal.SIGKILL)

    def database_processes(self) -> list[int]:
        """PostgreSQL's processes, the first one first."""
        cluster = Cluster(self.folder / "postgres")
        first = int((cluster.data / "postmaster.pid").read_text().splitlines()[0])
        return [first, *map(int, Path(f"/proc/{first}/task/{first}/children").read_text().split())]

    def kill_database(self) -> None:
        """kill -9 of PostgreSQL's first process."""
        os.kill(self.database_processes()[0], signal.SIGKILL)

    def database(self) -> psycopg.Connection:
        """A connection of the test's own; each statement is a transaction."""
        return psycopg.connect(Instance(self.folder).environment()["DATABASE_URL"], autocommit=True)

    def token_of(self, email: str) -> str:
        """A new API token of an account."""
        return self._herald("token", email).strip()

    def manage(self, *words: str) -> str:
        """A command of the server's own; what it said."""
        return self._herald("manage", *words)

    def outage(self, site: str, *words: str) -> str:
        """Cut the devices at a site off, or let them through; what that said."""
        return self._herald("demo", "outage", site, *words)

    def secret_of_a_device(self) -> str:
        """The secret of one of the simulated devices, which goes on using it."""
        manifest = json.loads(next(self.folder.rglob("fleet.json")).read_text())
        return str(manifest["devices"][0]["secret"])

    @property
    def gateway_port(self) -> int:
        return Instance(self.folder).choices.gateway_port

    def upload(self, path: str, name: str, text: str) -> Any:
        """Send a file, as a browser does."""
        edge = "----------------------------brisk"
        part = f'Content-Disposition: form-data; name="file"; filename="{name}"\r\nContent-Type: text/csv\r\n\r\n{text}'
        content = f"--{edge}\r\n{part}\r\n--{edge}--\r\n".encode()
        return self._call("POST", path, content, f"multipart/form-data; boundary={edge}", 120.0)

    def api(self, method: str, path: str, body: Any = None, *, seconds: float = 120.0) -> Any:
        """One call, as a script makes it."""
        content = None if body is None else json.dumps(body).encode()
        return self._call(method, path, content, "application/json", seconds)

    def _call(self, method: str, path: str, content: bytes | None, kind: str, seconds: float) -> Any:
        if not self._token:
            self._token = self.token_of(ENGINEER)
        request = urllib.request.Request(
            f"{self.url}/api/v1/{path}",
            method=method,
            data=content,
            headers={"Authorization": f"Bearer {self._token}", "Content-Type": kind},
        )
        try:
            with urllib.request.urlopen(request, timeout=seconds) as response:
                return None if response.status == 204 else json.load(response)
        except urllib.error.HTTPError as error:
            raise Refused(error) from None

    def ask(self, path: str) -> Any:
        """A GET that is asked again while the server is coming back."""
        deadline = time.monotonic() + PATIENCE_SECONDS
        while True:
            try:
                return self.api("GET", path)
            except OSError:
                if time.monotonic() > deadline:
                    raise
                time.sleep(0.3)

    def until(self, path: str, true: Callable[[Any], bool], *, seconds: float = PATIENCE_SECONDS) -> Any:
        """Ask until the answer is as wanted.

        Raises:
            AssertionError: it never was; with the last answer.
        """
        deadline = time.monotonic() + seconds
        while not true(answer := self.ask(path)):
            assert time.monotonic() < deadline, json.dumps(answer)[:1500]
            time.sleep(0.4)
        return answer

    def group(self, name: str) -> int:
        return int(next(g["id"] for g in self.ask("groups") if g["name"] == name))

    def image(self, name: str) -> int:
        return int(next(i["id"] for i in self.ask("images") if i["name"] == name))

    def add_fault(self, **fault: Any) -> None:
        """Let the simulated devices fail in one more way from now on."""
        path = next(self.folder.rglob("fleet.json"))
        manifest = json.loads(path.read_text())
        path.write_text(json.dumps({**manifest, "faults": [*manifest["faults"], fault]}))
        before = self.processes()["fleet"]
        self.kill("fleet")
        deadline = time.monotonic() + PATIENCE_SECONDS
        while self.processes().get("fleet", before) == before:
            assert time.monotonic() < deadline, "the fleet did not come back"
            time.sleep(0.3)

    def rank_first(self, *rollouts: int) -> None:
        """Let rollouts go before all others, in this order, once they are open. One may end just then; the others are
        then asked for again."""
        for rollout in rollouts:
            self.until(f"rollouts/{rollout}", lambda r: r["state"] == "running")
        deadline = time.monotonic() + PATIENCE_SECONDS
        while True:
            listed = self.ask("rollouts")["rollouts"]
            others = [r["id"] for r in listed if r["state"] in ("running", "paused", "halted")]
            try:
                self.api("PUT", "rollouts/order", {"order": [*rollouts, *(r for r in others if r not in rollouts)]})
                return
            except Refused as refused:
                if refused.status not in (409, 422) or time.monotonic() > deadline:
                    raise

    def launch(self, body: dict[str, Any], *, reason: str = "") -> int:
        """Compose and launch a rollout; its id. Unless it says otherwise it goes at any hour.

        An image that failed before needs a reason.
        The fleet goes on meanwhile, so a device may have joined since the preflight; the number is then asked again.
        """
        rollout = self.api("POST", "rollouts", {"window_start": None, "window_end": None, **body})["id"]
        deadline = time.monotonic() + PATIENCE_SECONDS
        while True:
            reached = self.api("POST", f"rollouts/{rollout}/preflight")["reached"]
            try:
                self.api("POST", f"rollouts/{rollout}/launch", {"devices": reached, "reason": reason})
                return int(rollout)
            except Refused as refused:
                if refused.code != "count-mismatch" or time.monotonic() > deadline:
                    raise


if __name__ == "__main__":
    prepare_in(Path(sys.argv[1]))
