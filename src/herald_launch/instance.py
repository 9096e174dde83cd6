"""An installation on this machine: its folder, ports, environment and programs."""

import json
import os
import secrets
from dataclasses import asdict, dataclass
from pathlib import Path

from herald_launch.postgres import Cluster
from herald_launch.steps import PYTHON, ROOT

DATABASE = "herald"
#: which sites of the demo are cut off, and until when
OUTAGES = "fleet-outages.json"


@dataclass(kw_only=True)
class Choices:
    """What was chosen at the start; kept, so that the supervisor and `status` know it."""

    port: int = 8000
    gateway_port: int = 0
    #: the demo's mail server, which keeps what it is handed; 0 is none
    mail_port: int = 0
    devices: int = 2431
    speed: float = 60.0
    fleet: bool = True
    #: load the demo, and let its time pass faster; its fleet is the simulated one
    demo: bool = True
    #: where the simulated fleet calls; 0 is the gateway itself
    fleet_port: int = 0


class Instance:
    """One data folder and what runs from it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder.resolve()
        self.run = self.folder / "run"
        self.logs = self.folder / "logs"
        self.cluster = Cluster(self.folder / "postgres")

    def prepare_folders(self) -> None:
        for folder in (self.folder, self.run, self.logs):
            folder.mkdir(parents=True, exist_ok=True)

    @property
    def choices(self) -> Choices:
        file = self.folder / "choices.json"
        return Choices(**json.loads(file.read_text())) if file.exists() else Choices()

    def keep(self, choices: Choices) -> None:
        (self.folder / "choices.json").write_text(json.dumps(asdict(choices)))

    def secret_key(self) -> str:
        """The key that signs sessions; made once."""
        file = self.folder / "secret-key"
        if not file.exists():
            file.write_text(secrets.token_urlsafe(50))
            file.chmod(0o600)
        return file.read_text()

    def environment(self) -> dict[str, str]:
        """What every program of this installation is started with."""
        return {
            "PYTHONPATH": str(ROOT / "src"),
            "DJANGO_SETTINGS_MODULE": "herald.settings",
            "DATABASE_URL": self.cluster.url(DATABASE),
            "HERALD_DATA_DIR": str(self.folder),
            "HERALD_SECRET_KEY": self.secret_key(),
            "HERALD_DEMO": "1" if self.choices.demo else "0",
            "OPENBLAS_NUM_THREADS": "1",  # small arrays: threads cost memory and gain nothing
            "HERALD_PUBLIC_URL": os.environ.get("HERALD_PUBLIC_URL", f"http://localhost:{self.choices.port}"),
            "HERALD_MAIL_URL": os.environ.get("HERALD_MAIL_URL", self._catcher()),
        }

    def _catcher(self) -> str:
        """The address of the demo's mail server; nothing without the demo."""
        return f"smtp://127.0.0.1:{self.choices.mail_port}" if self.choices.mail_port else ""

    def programs(self) -> dict[str, list[str]]:
        """Every program that runs, by name."""
        c = self.choices
        programs = {
            "server": serve("127.0.0.1", c.port),
            "gateway": gateway("127.0.0.1", c.gateway_port),
            "worker": work(),
            "clock": clock(),
        }
        if c.mail_port:
            programs["mail"] = [
                PYTHON, "-m", "aiosmtpd", "-n", "-l", f"127.0.0.1:{c.mail_port}",
                "-c", "aiosmtpd.handlers.Mailbox", str(self.folder / "mail"),
            ]  # fmt: skip
        if c.demo and c.fleet:
            programs["fleet"] = [
                PYTHON, "-m", "herald_devices",
                "--manifest", str(self.folder / "fleet.json"),
                "--gateway", f"http://127.0.0.1:{c.fleet_port or c.gateway_port}",
                "--memory", str(self.folder / "fleet-memory.jsonl"),
                "--outages", str(self.folder / OUTAGES),
                "--speed", str(c.speed),
            ]  # fmt: skip
        return programs


def serve(host: str, port: int) -> list[str]:
    """The web server. Open event streams would keep it from ending, hence the two seconds."""
    # longer than browsers keep an idle connection: one that closes as a browser sends is an answer that never comes
    return [*_serving("herald.asgi:app", host, port), "--keep-alive", "620"]


def gateway(host: str, port: int) -> list[str]:
    return _serving("herald.gateway.asgi:app", host, port)


def _serving(app: str, host: str, port: int) -> list[str]:
    return [PYTHON, "-m", "herald.serving", app, "--host", host, "--port", str(port)]


def work() -> list[str]:
    return [PYTHON, str(ROOT / "manage.py"), "procrastinate", "worker", "-c", "2"]


def clock() -> list[str]:
    return [PYTHON, str(ROOT / "manage.py"), "run_clock"]
