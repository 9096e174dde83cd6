"""The verbs of `./herald`."""

import json
import os
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import typer

from herald_launch import install
from herald_launch import instance as instances
from herald_launch.instance import DATABASE, OUTAGES, Choices, Instance
from herald_launch.steps import PYTHON, ROOT, StepFailed, free_port, is_outgoing, port_is_free, run, say
from herald_launch.supervise import Supervisor, child_pids, supervisor_pid
from herald_launch.supervise import stop as stop_instance

app = typer.Typer(add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False, help="Brisk Herald.")
demo_app = typer.Typer(no_args_is_help=True, help="What can be done to the demo's devices.")
app.add_typer(demo_app, name="demo")
Data = Annotated[Path, typer.Option("--data", help="folder for everything that is kept")]
DEFAULT_DATA = ROOT / "var"
UP_SECONDS = 60.0
FORWARD = {"allow_extra_args": True, "ignore_unknown_options": True}


@app.command()
def start(
    port: Annotated[int, typer.Option(help="port of the web server")] = 8000,
    data: Data = DEFAULT_DATA,
    devices: Annotated[int, typer.Option(help="devices of the demo, when it is loaded")] = 2431,
    speed: Annotated[float, typer.Option(help="how many times faster than life the demo's time passes")] = 60.0,
    fresh: Annotated[bool, typer.Option(help="throw the data away first")] = False,
    detach: Annotated[bool, typer.Option(help="return when it is up")] = False,
    fleet: Annotated[bool, typer.Option(help="run the simulated fleet")] = True,
    demo: Annotated[bool, typer.Option(envvar="HERALD_DEMO", help="load the demo; without it nothing is there")] = True,
    fleet_port: Annotated[int, typer.Option(hidden=True, help="where it calls, if not at the gateway")] = 0,
) -> None:
    """Set up what is missing, and start everything; with the demo, unless HERALD_DEMO=0."""
    install.ensure_postgres()
    install.ensure_front_end()
    instance = Instance(data)
    supervisor = Supervisor(instance)
    if supervisor_pid(instance) is not None:
        if not fresh:
            say(f"it runs already: http://localhost:{instance.choices.port}")
            return
        stop_instance(instance)
    supervisor.take_lock()
    if not port_is_free(port):
        raise StepFailed(f"port {port} is taken by another program; choose another with --port")
    wanted = Choices(port=port, devices=devices, speed=speed, fleet=fleet, demo=demo, fleet_port=fleet_port)
    choices = _choose(instance, wanted)
    say("starting PostgreSQL")
    instance.cluster.start()
    instance.cluster.ensure_database(DATABASE, fresh=fresh)
    if fresh:
        for name in ("fleet-memory.jsonl", "fleet.json", OUTAGES):
            (instance.folder / name).unlink(missing_ok=True)
    say("making the database ready")
    run(
        [PYTHON, str(ROOT / "manage.py"), "prepare", "--devices", str(devices), "--speed", str(speed)],
        doing="making the database ready",
        env=instance.environment(),
    )
    if not demo:
        _first_administrator(instance)
    if detach:
        assert supervisor._lock is not None
        supervisor._lock.close()
        _spawn_supervisor(instance)
        _wait_until_up(instance)
        _greet(choices)
        return
    for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        signal.signal(number, lambda *_: supervisor.stopping.set())
    _run_in_front(supervisor, choices)


def _first_administrator(instance: Instance) -> None:
    """Ask for the first administrator where there is none, or take it from the environment."""
    command = [PYTHON, str(ROOT / "manage.py"), "first_administrator"]
    if subprocess.run(command, env={**os.environ, **instance.environment()}, check=False).returncode:
        raise StepFailed("the first administrator could not be made; the lines above say why")


def _choose(instance: Instance, wanted: Choices) -> Choices:
    """Settle the choices. The gateway keeps its port, if it can."""
    gateway_port = instance.choices.gateway_port or wanted.port + 1
    if gateway_port == wanted.port or is_outgoing(gateway_port) or not port_is_free(gateway_port):
        gateway_port = free_port()
    mail_port = instance.choices.mail_port or free_port() if wanted.demo else 0
    if mail_port and (is_outgoing(mail_port) or not port_is_free(mail_port)):
        mail_port = free_port()
    choices = replace(wanted, gateway_port=gateway_port, mail_port=mail_port)
    instance.keep(choices)
    return choices


def _run_in_front(supervisor: Supervisor, choices: Choices) -> None:
    import threading

    def greet_when_up() -> None:
        try:
            _wait_until_up(supervisor.instance, supervisor)
            _greet(choices)
        except StepFailed as failure:
            print(f"herald: {failure}", file=sys.stderr)
            supervisor.stopping.set()

    threading.Thread(target=greet_when_up, daemon=True).start()
    supervisor.run()
    say("everything has ended")


def _spawn_supervisor(instance: Instance) -> None:
    with (instance.logs / "supervisor.log").open("ab") as log:
        subprocess.Popen(
            [PYTHON, "-m", "herald_launch", "supervise", "--data", str(instance.folder)],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
            env={**os.environ, "PYTHONPATH": str(ROOT / "src")},
        )


@app.command(hidden=True)
def supervise(data: Data = DEFAULT_DATA) -> None:
    """Keep the programs running; `start --detach` runs this."""
    supervisor = Supervisor(Instance(data))
    supervisor.take_lock()
    for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        signal.signal(number, lambda *_: supervisor.stopping.set())
    supervisor.run()


def _answers(url: str) -> bool:
    try:
        with urllib.request.urlopen(url, timeout=2) as response:
            return bool(response.status == 200)
    except (OSError, urllib.error.URLError):
        return False


def _wait_until_up(instance: Instance, supervisor: Supervisor | None = None) -> None:
    c = instance.choices
    urls = [f"http://127.0.0.1:{c.port}/api/v1/health", f"http://127.0.0.1:{c.gateway_port}/device/v1/health"]
    deadline = time.monotonic() + UP_SECONDS
    while not all(_answers(u) for u in urls):
        if supervisor is not None and supervisor.stopping.is_set():
            return
        if time.monotonic() > deadline:
            logs = "\n".join(_tail(instance.logs / f"{n}.log") for n in ("server", "gateway", "supervisor"))
            raise StepFailed(
                f"it does not answer after {UP_SECONDS:g} s. The end of the logs in {instance.logs}:\n{logs}"
            )
        time.sleep(0.1)


def _tail(path: Path) -> str:
    return "\n".join(path.read_text(errors="replace").splitlines()[-5:]) if path.exists() else ""


def _greet(choices: Choices) -> None:
    from herald.demo.scenario import ACCOUNTS, PASSWORD

    print(f"\nBrisk Herald is up: http://localhost:{choices.port}")
    if not choices.demo:
        print(f"devices call http://127.0.0.1:{choices.gateway_port}")
        print("no demo: sign in as an administrator, and invite the others on the page People", flush=True)
        return
    print(
        f"devices call http://127.0.0.1:{choices.gateway_port}; the demo's time passes {choices.speed:g} times as fast"
    )
    print(f"sign in with one of these and the password {PASSWORD}:")
    for account in ACCOUNTS:
        print(f"  {account.email:<30} {account.name}, {account.role}")
    print(f"mail that it sends stays here: http://localhost:{choices.port}/mail")
    print(flush=True)


@app.command()
def stop(data: Data = DEFAULT_DATA) -> None:
    """End everything."""
    say("ended" if stop_instance(Instance(data)) else "nothing was running")


@app.command(name="backup")
def backup_command(file: Path, data: Data = DEFAULT_DATA) -> None:
    """Write database, images, outputs and keys into a file, while it runs or not."""
    from herald_launch.backup import backup

    if "DATABASE_URL" not in os.environ:
        install.ensure_postgres()
    backup(Instance(data), file)


@app.command(name="restore")
def restore_command(file: Path, data: Data = DEFAULT_DATA) -> None:
    """Put a backup back into a data folder in which nothing is."""
    from herald_launch.backup import restore

    if "DATABASE_URL" not in os.environ:
        install.ensure_postgres()
    restore(Instance(data), file)


@app.command()
def clean() -> None:
    """Delete what tests and benches keep to be quick the next time; the installation's own data stays."""
    from herald_launch.test_runs import clean as remove

    remove()


@app.command()
def status(data: Data = DEFAULT_DATA, as_json: Annotated[bool, typer.Option("--json")] = False) -> None:
    """Say what runs."""
    instance = Instance(data)
    c = instance.choices
    up = supervisor_pid(instance) is not None
    state: dict[str, Any] = {
        "running": up,
        "url": f"http://127.0.0.1:{c.port}" if up else None,
        "gateway": f"http://127.0.0.1:{c.gateway_port}" if up else None,
        "answers": up and _answers(f"http://127.0.0.1:{c.port}/api/v1/health"),
        "database": instance.cluster.address(DATABASE) if instance.cluster.is_up() else None,
        "speed": c.speed,
        "processes": child_pids(instance) if up else {},
        "data": str(instance.folder),
    }
    if as_json:
        print(json.dumps(state))
        return
    if not up:
        print("nothing runs")
        return
    print(f"{state['url']} {'answers' if state['answers'] else 'does not answer'}")
    for name, pid in state["processes"].items():
        print(f"  {name:<12} {pid}")


@app.command(context_settings=FORWARD)
def manage(context: typer.Context, data: Data = DEFAULT_DATA) -> None:
    """Run one of Django's commands with this installation's settings."""
    environment = _ready_environment(data)
    os.execve(PYTHON, [PYTHON, str(ROOT / "manage.py"), *context.args], {**os.environ, **environment})


@demo_app.command()
def outage(
    site: str,
    data: Data = DEFAULT_DATA,
    minutes: Annotated[float, typer.Option(help="how long it lasts, in minutes of the demo's time")] = 120.0,
    end: Annotated[bool, typer.Option("--end", help="let the site through again")] = False,
) -> None:
    """Cut the demo's devices at a site off, as if their uplink were gone."""
    from herald_launch.outages import cut_off

    print(cut_off(Instance(data), site, minutes=0.0 if end else minutes), flush=True)


@app.command()
def token(email: str, data: Data = DEFAULT_DATA) -> None:
    """Print a new API token of an account, for scripts."""
    environment = _ready_environment(data)
    os.execve(PYTHON, [PYTHON, str(ROOT / "manage.py"), "make_token", email], {**os.environ, **environment})


def _ready_environment(data: Path) -> dict[str, str]:
    """The environment of an installation whose database is up; one's own DATABASE_URL goes first."""
    if "DATABASE_URL" in os.environ:
        return {}
    install.ensure_postgres()
    instance = Instance(data)
    instance.prepare_folders()
    instance.cluster.start()
    instance.cluster.ensure_database(DATABASE)
    return instance.environment()


Host = Annotated[str, typer.Option(help="address to listen on")]


@app.command()
def serve(host: Host = "127.0.0.1", port: int = 8000) -> None:
    """Run only the web server, with the environment's settings (see docs/operations.md)."""
    install.ensure_front_end()
    os.execv(PYTHON, instances.serve(host, port))


@app.command()
def gateway(host: Host = "127.0.0.1", port: int = 8001) -> None:
    """Run only a device gateway, with the environment's settings."""
    os.execv(PYTHON, instances.gateway(host, port))


@app.command()
def work() -> None:
    """Run only a worker, with the environment's settings."""
    os.execv(PYTHON, instances.work())


@app.command()
def clock() -> None:
    """Run only a clock, with the environment's settings. Several may run; one of them works."""
    os.execv(PYTHON, instances.clock())


@app.command()
def prepare() -> None:
    """Make tables and signing key in the environment's database; for installations on several machines."""
    os.execv(PYTHON, [PYTHON, str(ROOT / "manage.py"), "prepare"])


@app.command()
def test(
    what: Annotated[
        str,
        typer.Argument(
            help="core, server, gateway, browser or web, all if left out; a long run: "
            "mutants, recurrence, proposals, month, fuzz, soak"
        ),
    ] = "",
    minutes: Annotated[float, typer.Option(help="how long a soak or fuzz lasts, if not as usual")] = 0.0,
    seed: Annotated[int, typer.Option(help="what a soak or fuzz does is drawn from it; 0 draws one")] = 0,
) -> None:
    """Run the tests and checks, beside a running instance without disturbing it."""
    from herald_launch.test_runs import run_tests

    run_tests(what, minutes=minutes, seed=seed)


@app.command()
def client() -> None:
    """Write docs/openapi.json and the TypeScript client's types anew from the API."""
    from herald_launch.test_runs import write_client

    write_client()


@app.command()
def shot(view: Annotated[str, typer.Argument()] = "", data: Data = DEFAULT_DATA) -> None:
    """Take the pictures in docs/screenshots from the running demo."""
    from herald_launch.screenshots import take

    install.ensure_chromium()
    take(Instance(data), view)


@app.command()
def bench(name: Annotated[str, typer.Argument(help="which one; the list if left out")] = "") -> None:
    """Measure, on a database of its own."""
    from herald_launch.benchmarks import run_bench

    run_bench(name)


if __name__ == "__main__":
    try:
        app()
    except StepFailed as failure:
        print(f"herald: {failure}", file=sys.stderr)
        sys.exit(1)
