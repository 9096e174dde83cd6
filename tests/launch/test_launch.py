"""The one command: set-up, the private cluster, and programs that are kept running."""

import json
import os
import re
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import psycopg
import pytest

from herald_devices.outages import Outages
from herald_launch import install, supervise
from herald_launch.instance import OUTAGES, Choices, Instance
from herald_launch.outages import cut_off
from herald_launch.postgres import Cluster
from herald_launch.steps import ROOT, StepFailed, free_port, is_outgoing, port_is_free, run
from herald_launch.supervise import Supervisor, child_pids, supervisor_pid


@pytest.fixture
def folder() -> Iterator[Path]:
    """A folder that the user postgres can enter, which pytest's own are not."""
    with tempfile.TemporaryDirectory(prefix="herald-launch-", dir="/var/tmp") as name:
        Path(name).chmod(0o755)
        yield Path(name)


@pytest.fixture
def cluster(folder: Path) -> Iterator[Cluster]:
    found = Cluster(folder / "postgres", fast=True)
    yield found
    found.destroy()


def wait_for(true: Callable[[], object], seconds: float = 20) -> None:
    deadline = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < deadline
        time.sleep(0.05)


def ask(cluster: Cluster, question: str) -> object:
    with psycopg.connect(cluster.url("herald")) as connection:
        row = connection.execute(question).fetchone()
        return row[0] if row else None


def test_a_step_that_fails_says_which_and_why() -> None:
    with pytest.raises(StepFailed, match=r"counting failed \(exit 3\)(?s:.*)one two(?s:.*)Try again"):
        run([sys.executable, "-c", "print('one two'); raise SystemExit(3)"], doing="counting", advice="Try again.")
    with pytest.raises(StepFailed, match="looking"):
        run(["/no/such/program"], doing="looking")


def test_a_port_that_is_taken_is_noticed() -> None:
    import socket

    port = free_port()
    assert port_is_free(port)
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", port))
        taken.listen()
        assert not port_is_free(port)


def test_a_free_port_is_none_that_an_outgoing_connection_may_hold() -> None:
    first, last = map(int, Path("/proc/sys/net/ipv4/ip_local_port_range").read_text().split())
    ports = {free_port() for _ in range(50)}
    assert len(ports) > 40
    assert not [port for port in ports if first <= port <= last]


def test_the_cluster_is_made_kept_and_started_again(cluster: Cluster) -> None:
    cluster.start()
    cluster.start()  # does nothing the second time
    cluster.ensure_database("herald")
    with psycopg.connect(cluster.url("herald")) as connection:
        connection.execute("CREATE TABLE kept (n int)")
        connection.execute("INSERT INTO kept VALUES (7)")
    port = cluster.port
    cluster.stop()
    assert not cluster.is_up()
    cluster.start()
    cluster.ensure_database("herald")
    assert cluster.port == port
    assert ask(cluster, "SELECT n FROM kept") == 7
    cluster.ensure_database("herald", fresh=True)
    assert ask(cluster, "SELECT to_regclass('kept')") is None


def test_nobody_is_let_in_without_the_password_which_others_cannot_read(cluster: Cluster) -> None:
    cluster.start()
    file = cluster.folder / "password"
    assert file.stat().st_mode & 0o077 == 0
    assert file.read_text().strip() not in cluster.address("postgres")
    for url in (cluster.address("postgres"), cluster.url("postgres").replace("@", "x@")):
        with pytest.raises(psycopg.OperationalError, match="password"):
            psycopg.connect(url, connect_timeout=5)
    with psycopg.connect(cluster.url("postgres")) as connection:
        row = connection.execute("SELECT rolpassword FROM pg_authid WHERE rolname = 'postgres'").fetchone()
        assert row and row[0].startswith("SCRAM-SHA-256$")


def test_a_cluster_of_an_earlier_release_wants_a_password_from_its_next_start_on(cluster: Cluster) -> None:
    cluster.start()
    rules = cluster.data / "pg_hba.conf"
    rules.write_text("host all all 127.0.0.1/32 trust\n")
    cluster.stop()
    (cluster.folder / "password").unlink()
    cluster.start()
    with pytest.raises(psycopg.OperationalError, match="password"):
        psycopg.connect(cluster.address("postgres"), connect_timeout=5)
    cluster.ensure_database("herald")


def test_a_killed_cluster_starts_again(cluster: Cluster) -> None:
    cluster.start()
    pid = int((cluster.data / "postmaster.pid").read_text().splitlines()[0])
    os.kill(pid, signal.SIGKILL)
    wait_for(lambda: not cluster.is_up())
    cluster.start()
    assert cluster.is_up()


def test_a_server_that_somebody_else_is_starting_is_waited_for(cluster: Cluster) -> None:
    cluster.start()
    port = cluster.port
    cluster.stop()
    options = f"-p {port} -c listen_addresses=127.0.0.1 -c unix_socket_directories="
    command = ["pg_ctl", "-D", str(cluster.data), "-W", "-s", "-l", str(cluster.folder / "log"), "-o", options, "start"]
    assert cluster._run(command).returncode == 0
    cluster.start()
    assert cluster.is_up() and cluster.port == port


def test_a_stale_pid_of_another_program_is_never_signalled(cluster: Cluster) -> None:
    cluster.start()
    cluster.stop()
    other = subprocess.Popen(["sleep", "60"])
    try:
        (cluster.data / "postmaster.pid").write_text(f"{other.pid}\n{cluster.data}\n0\n{cluster.port}\n\n127.0.0.1\n")
        cluster.stop()
        assert other.poll() is None
        cluster.start()
        assert cluster.is_up()
        assert other.poll() is None
    finally:
        other.kill()
        other.wait()


def test_a_port_taken_meanwhile_is_given_up_for_another(cluster: Cluster) -> None:
    import socket

    cluster.start()
    port = cluster.port
    assert port is not None
    cluster.stop()
    with socket.socket() as taken:
        taken.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        taken.bind(("127.0.0.1", port))
        taken.listen()
        cluster.start()
        assert cluster.is_up() and cluster.port != port


@pytest.mark.skipif(os.geteuid() != 0, reason="only root runs the server as another user")
def test_a_folder_closed_to_others_is_replaced(tmp_path: Path) -> None:
    closed = tmp_path / "closed"
    closed.mkdir(mode=0o700)
    assert str(Cluster(closed / "postgres").folder).startswith("/var/tmp/brisk-herald-")


def test_choices_and_the_secret_key_are_kept(folder: Path) -> None:
    instance = Instance(folder)
    instance.prepare_folders()
    assert instance.choices == Choices()
    instance.keep(Choices(port=9000, speed=5.0))
    assert Instance(folder).choices.port == 9000
    key = instance.secret_key()
    assert len(key) > 40 and Instance(folder).secret_key() == key
    assert (folder / "secret-key").stat().st_mode & 0o077 == 0


def test_without_the_fleet_nothing_simulates(folder: Path) -> None:
    instance = Instance(folder)
    instance.prepare_folders()
    instance.keep(Choices(fleet=False))
    assert set(instance.programs()) == {"server", "gateway", "worker", "clock"}


def demo_of(folder: Path, *sites: str) -> Instance:
    """A demo with a device at each of these sites."""
    instance = Instance(folder)
    instance.prepare_folders()
    instance.keep(Choices(speed=60.0))
    (folder / "fleet.json").write_text(json.dumps({"devices": [{"site": s} for s in sites]}))
    return instance


def test_a_site_of_the_demo_is_cut_off_for_a_while_and_let_through(folder: Path) -> None:
    instance = demo_of(folder, "Marrow Bay", "Marrow Bay", "Shed")
    said = cut_off(instance, "Marrow Bay", minutes=120)
    assert said == "2 devices at Marrow Bay are cut off for 120 minutes of the demo's time, 120 s of yours"
    outages = Outages(folder / OUTAGES)
    assert outages.is_cut("Marrow Bay") and not outages.is_cut("Shed")
    assert cut_off(instance, "Shed", minutes=60).startswith("1 device at Shed is cut off")
    assert cut_off(instance, "Marrow Bay", minutes=0) == "2 devices at Marrow Bay get through again"
    assert set(json.loads((folder / OUTAGES).read_text())) == {"Shed"}


@pytest.mark.parametrize("site", ["Marrow", ""])
def test_a_site_that_the_demo_does_not_have_is_said(folder: Path, site: str) -> None:
    instance = demo_of(folder, *(f"Site {n:02}" for n in range(20)))
    with pytest.raises(StepFailed, match=r"it has Site 00, .*Site 11 and 8 more"):
        cut_off(instance, site, minutes=5)
    instance.keep(Choices(demo=False))
    with pytest.raises(StepFailed, match="no demo here"):
        cut_off(instance, "Site 00", minutes=5)


class _Fake(Instance):
    """An instance whose programs only sleep, and whose database is up, or stands still."""

    class _Cluster:
        up = True
        starts = 0

        def is_up(self) -> bool:
            return self.up

        def start(self, *, unless: Callable[[], bool]) -> None:
            self.starts += 1
            while not self.up and not unless():
                time.sleep(0.02)

        def stop(self) -> None: ...

    def __init__(self, folder: Path, programs: dict[str, list[str]]) -> None:
        super().__init__(folder)
        self.fake = self._Cluster()
        self.cluster = self.fake  # type: ignore[assignment]  # stands in for it
        self.url = "first"
        self._programs = programs

    def environment(self) -> dict[str, str]:
        return {"DATABASE_URL": self.url}

    def programs(self) -> dict[str, list[str]]:
        return self._programs


SLEEP = [sys.executable, "-c", "import time; time.sleep(600)"]


def supervised(folder: Path, programs: dict[str, list[str]]) -> tuple[_Fake, Supervisor, threading.Thread]:
    instance = _Fake(folder, programs)
    supervisor = Supervisor(instance)
    supervisor.take_lock()
    thread = threading.Thread(target=supervisor.run)
    thread.start()
    return instance, supervisor, thread


def test_what_dies_is_started_again_and_all_end_together(folder: Path) -> None:
    instance, supervisor, thread = supervised(folder, {"one": SLEEP, "two": SLEEP})
    try:
        wait_for(lambda: {"one", "two"} <= set(child_pids(instance)))
        first = child_pids(instance)["one"]
        os.kill(first, signal.SIGKILL)
        wait_for(lambda: child_pids(instance).get("one", first) != first)
        assert "one ended with -9" in (instance.logs / "supervisor.log").read_text()
    finally:
        supervisor.stopping.set()
        thread.join()
    assert child_pids(instance) == {}
    assert supervisor_pid(instance) is None


def test_what_dies_while_the_database_stands_still_is_started_again_all_the_same(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(supervise, "DATABASE_LOOK_SECONDS", 0.05)
    instance, supervisor, thread = supervised(folder, {"one": SLEEP})
    try:
        wait_for(lambda: "one" in child_pids(instance))
        instance.fake.up = False
        wait_for(lambda: instance.fake.starts == 1)
        first = child_pids(instance)["one"]
        os.kill(first, signal.SIGKILL)
        wait_for(lambda: child_pids(instance).get("one", first) != first)
        assert instance.fake.starts == 1  # still waiting for it
    finally:
        supervisor.stopping.set()
        thread.join()


def test_a_database_on_another_port_takes_every_program_with_it(folder: Path) -> None:
    tell = [sys.executable, "-c", "import os, time; print(os.environ['DATABASE_URL'], flush=True); time.sleep(600)"]
    instance, supervisor, thread = supervised(folder, {"one": tell})
    said = instance.logs / "one.log"
    try:
        wait_for(lambda: said.exists() and said.read_text() == "first\n")
        instance.url = "second"
        wait_for(lambda: said.read_text() == "first\nsecond\n")
    finally:
        supervisor.stopping.set()
        thread.join()


def test_a_program_that_will_not_end_is_killed(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(supervise, "STOP_SECONDS", 0.5)
    stubborn = (
        "import signal, time; signal.signal(signal.SIGTERM, signal.SIG_IGN); print(1, flush=True); time.sleep(600)"
    )
    instance, supervisor, thread = supervised(folder, {"stubborn": [sys.executable, "-c", stubborn]})
    wait_for(lambda: (instance.logs / "stubborn.log").exists() and (instance.logs / "stubborn.log").read_text())
    supervisor.stopping.set()
    thread.join()
    assert "was killed" in (instance.logs / "supervisor.log").read_text()


def test_only_one_supervises(folder: Path) -> None:
    instance, supervisor, thread = supervised(folder, {})
    try:
        assert supervisor_pid(instance) == os.getpid()
        with pytest.raises(StepFailed, match="runs already"):
            Supervisor(instance).take_lock()
    finally:
        supervisor.stopping.set()
        thread.join()


def test_unchanged_sources_have_an_unchanged_digest() -> None:
    paths = [ROOT / "README.md", ROOT / "herald"]
    assert install._digest(paths) == install._digest(paths)
    assert install._digest(paths) != install._digest(paths[:1])


def herald(*arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([str(ROOT / "herald"), *arguments], capture_output=True, text=True, check=False)


@pytest.mark.parametrize(
    ("arguments", "says"),
    [(("test", "nonsense"), "no part called nonsense"), (("bench", "nonsense"), "no bench called nonsense")],
)
def test_a_wrong_word_is_said_with_those_that_are_right(arguments: tuple[str, ...], says: str) -> None:
    done = herald(*arguments)
    assert done.returncode != 0
    assert says in done.stderr and "there are" in done.stderr
    assert "Traceback" not in done.stderr


def test_status_of_what_never_ran(folder: Path) -> None:
    done = herald("status", "--json", "--data", str(folder))
    assert done.returncode == 0
    assert '"running": false' in done.stdout
    assert "nothing runs" in herald("status", "--data", str(folder)).stdout


def test_the_list_of_benches_is_the_list_of_benches() -> None:
    from herald_launch.benchmarks import NAMES

    assert all(name in herald("bench").stdout for name in NAMES)
    runs = re.findall(r'^    "(\w+)": \w+\.run,$', (ROOT / "bench" / "__main__.py").read_text(), re.MULTILINE)
    assert sorted(runs) == sorted(NAMES)


@pytest.mark.parametrize(
    ("environment", "says"),
    [
        ({"HERALD_SECRET_KEY": ""}, "HERALD_SECRET_KEY is not set"),
        ({"HERALD_SECRET_KEY": "x", "DATABASE_URL": "mysql://x/y"}, "DATABASE_URL must look like"),
    ],
)
def test_settings_that_do_not_fit_are_named(environment: dict[str, str], says: str) -> None:
    clean = {k: v for k, v in os.environ.items() if not k.startswith("HERALD_") and k != "DATABASE_URL"}
    done = subprocess.run(
        [sys.executable, "manage.py", "check"],
        cwd=ROOT,
        env={**clean, **environment},
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode != 0
    assert says in done.stderr


def test_a_gateway_is_moved_off_a_port_that_an_outgoing_connection_may_hold(tmp_path: Path) -> None:
    from herald_launch.__main__ import _choose
    from herald_launch.instance import Choices, Instance

    first, _ = map(int, Path("/proc/sys/net/ipv4/ip_local_port_range").read_text().split())
    instance = Instance(tmp_path)
    instance.prepare_folders()
    instance.keep(Choices(port=8000, gateway_port=first + 7, devices=1, speed=1.0, fleet=False))
    chosen = _choose(instance, Choices(port=8000, devices=1, speed=1.0, fleet=False)).gateway_port
    assert not is_outgoing(chosen)
    assert instance.choices.gateway_port == chosen
    again = _choose(instance, Choices(port=8000, devices=1, speed=1.0, fleet=False))
    assert again.gateway_port == chosen  # it keeps the one that it has
