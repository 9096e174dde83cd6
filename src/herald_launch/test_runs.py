"""`./herald test`: all checks and tests, with a database and ports of their own."""

import json
import os
import random
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from herald_launch import install
from herald_launch.mutants import run_mutants
from herald_launch.postgres import Cluster
from herald_launch.steps import PYTHON, ROOT, StepFailed, run, say
from herald_launch.test_database import TEST_FOLDER, stop_test_database, test_environment

WEB = ROOT / "web"
BIN = Path(PYTHON).parent
#: the type of an answer to a call of which only the consequences are asked for
CONSEQUENCES = "application/vnd.brisk-herald.consequences+json"
SOAK_MINUTES, FUZZ_MINUTES = 120.0, 30.0
#: how many recurrences `./herald test recurrence` makes up
RECURRENCES = 10_000
#: for how many made-up fleets `./herald test proposals` has hours suggested
FLEETS = 200
#: how many tests run beside each other where none of them waits for real time
WORKERS = min(4, os.cpu_count() or 1)
#: by how much a part that runs beside others is nicer than they
GIVES_WAY = 10


def run_tests(what: str, *, minutes: float = 0.0, seed: int = 0) -> None:
    """Run one part, or all of them. `minutes` and `seed` are for soak and fuzz; 0 is the
    usual time, and a seed that is drawn.

    Raises:
        StepFailed: something failed; the rest was run all the same, so that one run tells everything.
    """
    parts: dict[str, Callable[[], None]] = {
        "core": _core,
        "server": _server,
        "gateway": _gateway,
        "web": _web,
        "browser": _browser,
    }
    long_runs: dict[str, Callable[[], None]] = {
        "mutants": _mutants,
        "recurrence": lambda: _by_seeds("tests.recurrence_rules", RECURRENCES, seed, "a rule is read in two ways"),
        "proposals": lambda: _by_seeds("tests.suggested_hours", FLEETS, seed, "hours that were proposed do not hold"),
        "month": _month,
        "soak": lambda: _against_an_installation("soak", minutes or SOAK_MINUTES, seed),
        "fuzz": lambda: _against_an_installation(
            "fuzz", minutes or FUZZ_MINUTES, seed, "--tool", install.ensure_fuzzer()
        ),
    }
    if what and what not in parts | long_runs:
        raise StepFailed(f"there is no part called {what}; there are {', '.join(parts | long_runs)}")
    if what in long_runs:
        long_runs[what]()
        return
    try:
        failed = _run_parts({what: parts[what]}) if what else _run_all(parts)
    finally:
        stop_test_database()
    if failed:
        raise StepFailed(f"failed: {', '.join(failed)}")
    say("all is well")


def _run_all(parts: Mapping[str, Callable[[], None]]) -> list[str]:
    """Run every part; the names of those that failed. Browser tests mostly wait, for a fleet whose hours are seconds;
    the tests of the server wait for nothing, and take what is left of the machine meanwhile."""
    beside = _Beside("server")
    try:
        _prepared.begin()
        failed = _run_parts({name: parts[name] for name in ("gateway", "core", "web")})
        stop_test_database()  # it starts one for itself
        beside.begin()
        failed += _run_parts({"browser": parts["browser"]})
        return failed + _run_parts({"server, beside the browser": beside.end})
    finally:
        beside.stop()
        _prepared.remove()


def _run_parts(parts: Mapping[str, Callable[[], None]]) -> list[str]:
    """Run parts one after the other; the names of those that failed."""
    failed = []
    for name, part in parts.items():
        started = time.monotonic()
        say(f"{name}:")
        try:
            part()
        except StepFailed as failure:
            print(f"herald: {failure}", flush=True)
            failed.append(name)
        say(f"{name} took {time.monotonic() - started:.0f} s")
    return failed


class _Beside:
    """A part that runs beside others, in a process that gives way to theirs. What it says is kept until it ends."""

    def __init__(self, part: str) -> None:
        self._part = part
        self._said = TEST_FOLDER / f"{part}.log"
        self._work: subprocess.Popen[bytes] | None = None

    def begin(self) -> None:
        """Let it begin."""
        command = ["nice", "-n", str(GIVES_WAY), PYTHON, "-m", "herald_launch", "test", self._part]
        TEST_FOLDER.mkdir(parents=True, exist_ok=True)
        with self._said.open("w") as said:
            self._work = subprocess.Popen(
                command, cwd=ROOT, stdin=subprocess.DEVNULL, stdout=said, stderr=subprocess.STDOUT
            )

    def end(self) -> None:
        """Wait for its end, and print what it said.

        Raises:
            StepFailed: it failed.
        """
        if self._work is None:
            raise StepFailed(f"{self._part} was not begun")
        ended = self._work.wait()
        print(self._said.read_text(), flush=True)
        if ended:
            raise StepFailed(f"{self._part} failed")

    def stop(self) -> None:
        """End it, if it goes on."""
        if self._work is not None and self._work.poll() is None:
            self._work.terminate()
            self._work.wait()


def _core() -> None:
    for command in (
        ["ruff", "check", "."],
        ["ruff", "format", "--check", "."],
        ["mypy"],
        ["lint-imports"],
    ):
        # mypy reads the settings, which want a key
        run([str(BIN / command[0]), *command[1:]], doing=" ".join(command), env={"HERALD_SECRET_KEY": "checks"})
        say(f"{command[0]} is content")
    _pytest("tests/core", workers=WORKERS)


class _PreparedInstallation:
    """The installation from which the browser's tests begin. To set it up takes a minute and one core, so it is done
    beside tests that leave one free."""

    def __init__(self) -> None:
        self._folder: Path | None = None
        self._work: subprocess.Popen[bytes] | None = None

    def begin(self) -> None:
        install.ensure_postgres()
        install.ensure_front_end()
        self._folder = Path(tempfile.mkdtemp(prefix="herald-prepared-", dir="/var/tmp"))
        paths = os.pathsep.join([str(ROOT / "src"), str(ROOT)])
        command = [PYTHON, "-m", "tests.running", str(self._folder)]
        self._work = subprocess.Popen(command, cwd=ROOT, env={**os.environ, "PYTHONPATH": paths})

    def environment(self) -> dict[str, str]:
        """Where it is, once it is there; nothing where it was not begun, or failed: the tests set up their own then."""
        if self._work is None or self._work.wait() != 0:
            return {}
        return {"HERALD_TEST_PREPARED": str(self._folder)}

    def remove(self) -> None:
        if self._work is not None and self._work.poll() is None:
            self._work.terminate()
            self._work.wait()
        if self._folder is not None:
            Cluster(self._folder / "postgres").destroy()
            shutil.rmtree(self._folder, ignore_errors=True)


_prepared = _PreparedInstallation()


def _server() -> None:
    environment = test_environment()
    run(
        [PYTHON, "manage.py", "makemigrations", "--check", "--dry-run"],
        doing="looking for changes without a migration",
        env=environment,
        advice="Make the migration with ./herald manage makemigrations.",
    )
    check_client(environment)
    _pytest("tests/server", environment, workers=WORKERS)
    _pytest("tests/launch", environment)


def _gateway() -> None:
    environment = test_environment()
    _pytest("tests/gateway", environment)
    _pytest("tests/devices", environment)


def _web() -> None:
    install.ensure_node_modules()
    for command in (["npx", "biome", "ci", "."], ["npx", "tsc", "--noEmit"], ["npx", "vitest", "run"]):
        run(command, doing=" ".join(command), cwd=WEB, quiet=command[1] != "vitest")
        say(f"{command[1]} is content")


def _browser() -> None:
    install.ensure_postgres()
    install.ensure_chromium()
    install.ensure_front_end()
    # one after another: two installations whose hours are seconds leave a small machine no time for what they wait for
    _pytest("tests/browser", {"HERALD_SECRET_KEY": "tests", "HERALD_DEMO": "1", **_prepared.environment()})


def _mutants() -> None:
    try:
        run_mutants(test_environment())
    finally:
        stop_test_database()


def _month() -> None:
    """Thirty days of scheduled commands, with the clock killed now and then in the middle of a turn."""
    try:
        _pytest("tests/server/test_firing_accounts.py", {**test_environment(), "HERALD_ACCOUNT_DAYS": "30"})
    finally:
        stop_test_database()


def _by_seeds(module: str, count: int, seed: int, wrong: str) -> None:
    """A long run that makes up so many cases, from a seed on."""
    first = seed or random.SystemRandom().randrange(10**9)
    say(f"seed {first}")
    command = [PYTHON, "-m", module, str(first), str(count)]
    environment = {"PYTHONPATH": os.pathsep.join([str(ROOT / "src"), str(ROOT)])}
    if subprocess.run(command, cwd=ROOT, env={**os.environ, **environment}, check=False).returncode:
        raise StepFailed(wrong)
    say("all is well")


def _against_an_installation(name: str, minutes: float, seed: int, *more: str) -> None:
    """A long run against an installation of its own: tests.soak, or tests.fuzz."""
    install.ensure_postgres()
    install.ensure_front_end()
    seed = seed or random.SystemRandom().randrange(1, 10**6)
    command = [PYTHON, "-m", f"tests.{name}", "--minutes", f"{minutes:g}", "--seed", str(seed), *more]
    environment = {"PYTHONPATH": os.pathsep.join([str(ROOT / "src"), str(ROOT)])}
    if subprocess.run(command, cwd=ROOT, env={**os.environ, **environment}, check=False).returncode:
        raise StepFailed(f"the {name} found something wrong")
    say("all is well")


def clean() -> None:
    """Delete what tests and benches keep to be quick the next time, also where it lies outside the clone."""
    for folder in (TEST_FOLDER, ROOT / "var" / "bench", ROOT / "var" / "fuzz"):
        if install.postgres_bin() is not None:
            Cluster(folder / "postgres").destroy()
        shutil.rmtree(folder, ignore_errors=True)
        say(f"removed {folder.relative_to(ROOT)}")


def _pytest(folder: str, environment: dict[str, str] | None = None, *, workers: int = 1) -> None:
    beside = ["-n", str(workers)] if workers > 1 else []
    command = [str(BIN / "pytest"), folder, *beside]
    done = subprocess.run(
        command, cwd=ROOT, env={**os.environ, "HERALD_SECRET_KEY": "tests", **(environment or {})}, check=False
    )
    if done.returncode:
        raise StepFailed(f"pytest {folder} ended with {done.returncode}")


def _write_schema(to: Path, environment: dict[str, str]) -> None:
    command = [
        "manage.py",
        "spectacular",
        "--format",
        "openapi-json",
        "--validate",
        "--fail-on-warn",
        "--file",
        str(to),
    ]
    run([PYTHON, *command], doing="writing the API's schema", env=environment)


def _write_types(schema: Path, to: Path) -> None:
    install.ensure_node_modules()
    with tempfile.NamedTemporaryFile("w", suffix=".json") as plain:
        json.dump(_without_dry_runs(json.loads(schema.read_text())), plain)
        plain.flush()
        command = ["npx", "openapi-typescript", plain.name, "--default-non-nullable=false", "-o", str(to)]
        run(command, doing="writing the TypeScript client's types", cwd=WEB)


#: requests whose defaults a form begins with, by the name that the client gives them
_FORMS = {"ROLLOUT_DEFAULTS": "RolloutDraftBodyRequest", "SCHEDULE_DEFAULTS": "ScheduleDraftBodyRequest"}


def _write_defaults(schema: Path, to: Path) -> None:
    """What the API takes for what a request leaves out, so that forms begin with the same."""
    schemas = json.loads(schema.read_text())["components"]["schemas"]
    lines = ["/** What the API takes for what a request leaves out. Written from the API's schema; do not edit. */"]
    for name, request in _FORMS.items():
        fields = {k: f["default"] for k, f in schemas[request]["properties"].items() if "default" in f}
        lines += [
            "",
            f"export const {name} = {{",
            *(f"  {k}: {json.dumps(v)}," for k, v in fields.items()),
            "} as const;",
        ]
    to.write_text("\n".join(lines) + "\n")


def _without_dry_runs(document: dict[str, Any]) -> dict[str, Any]:
    """The document without what a call answers where only its consequences are asked for: to the client, an answer is
    what the call answers with when it is carried out."""
    for calls in document["paths"].values():
        for call in calls.values():
            content = call["responses"].get("200", {}).get("content", {})
            if content.pop(CONSEQUENCES, None) and not content and len([s for s in call["responses"] if s < "300"]) > 1:
                del call["responses"]["200"]
    return document


def write_client() -> None:
    """docs/openapi.json, and the types and defaults in web/src/api, from the API as it is."""
    document = ROOT / "docs" / "openapi.json"
    _write_schema(document, test_environment())
    _write_types(document, WEB / "src" / "api" / "schema.d.ts")
    _write_defaults(document, WEB / "src" / "api" / "defaults.ts")
    say("docs/openapi.json, web/src/api/schema.d.ts and defaults.ts are current")


def check_client(environment: dict[str, str]) -> None:
    """Refuse a schema or client that is not what the API is now.

    Raises:
        StepFailed: one of them is stale.
    """
    folder = Path(tempfile.mkdtemp(prefix="herald-client-"))
    try:
        _write_schema(folder / "openapi.json", environment)
        _write_types(folder / "openapi.json", folder / "schema.d.ts")
        _write_defaults(folder / "openapi.json", folder / "defaults.ts")
        pairs = (
            (folder / "openapi.json", ROOT / "docs" / "openapi.json"),
            (folder / "schema.d.ts", WEB / "src" / "api" / "schema.d.ts"),
            (folder / "defaults.ts", WEB / "src" / "api" / "defaults.ts"),
        )
        for new, kept in pairs:
            if new.read_text() != kept.read_text():
                raise StepFailed(f"{kept.relative_to(ROOT)} is stale; write it anew with ./herald client")
        say("the client is current")
    finally:
        shutil.rmtree(folder)
