"""`./herald test mutants`: plants bugs one after another in a copy of the tree, and says which no test noticed."""

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from herald_launch import install
from herald_launch.steps import PYTHON, ROOT, StepFailed, say

BIN = Path(PYTHON).parent
#: the share of planted bugs that the tests must notice
WANTED = {"python": 0.9, "web": 0.8}
MOST_SECONDS = 40 * 60.0
#: a planted bug may keep a test from ending
ONE_SECONDS = 300.0
UNPLANTED_SECONDS = 1200.0
_LEFT_OUT = shutil.ignore_patterns("node_modules", "var", ".venv", ".git", "dist", "__pycache__", "screenshots")


def run_mutants(environment: dict[str, str]) -> None:
    """Plant every bug of tests/mutants/bugs.py. Prints one JSON object a line, with `where`, `planted`, `caught` and
    `survivors`.

    Raises:
        StepFailed: the tests fail with nothing planted, too few bugs were noticed, or one cannot be planted any more.
    """
    sys.path.insert(0, str(ROOT))
    from tests.mutants.bugs import PYTHON as IN_PYTHON
    from tests.mutants.bugs import WEB as IN_WEB

    install.ensure_node_modules()
    started = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="herald-mutants-") as name:
        copy = Path(name) / "tree"
        shutil.copytree(ROOT, copy, ignore=_LEFT_OUT)
        (copy / "web" / "node_modules").symlink_to(ROOT / "web" / "node_modules")
        _all_is_well(copy, environment, sorted({test for bug in IN_PYTHON for test in bug.tests}))
        short = []
        for where, bugs in (("python", IN_PYTHON), ("web", IN_WEB)):
            survivors, planted = [], 0
            for bug in bugs:
                if time.monotonic() - started > MOST_SECONDS:
                    say(f"the time is up after {planted} of {len(bugs)} bugs in {where}")
                    break
                planted += 1
                if not _is_noticed(copy, bug, environment):
                    survivors.append(f"{bug.file}: {bug.old.strip()[:80]}")
                    say(f"not noticed: {survivors[-1]}")
            caught = planted - len(survivors)
            print(
                json.dumps({"where": where, "planted": planted, "caught": caught, "survivors": survivors}), flush=True
            )
            if caught < WANTED[where] * planted:
                short.append(where)
    if short:
        raise StepFailed(f"too many bugs were not noticed in {' and '.join(short)}")


def _all_is_well(copy: Path, environment: dict[str, str], tests: list[str]) -> None:
    """With nothing planted nothing fails; else each bug would seem noticed."""
    if _fails(["npx", "vitest", "--run"], copy / "web", {}, UNPLANTED_SECONDS) or _fails(
        _pytest(*tests), copy, _python(copy, environment), UNPLANTED_SECONDS
    ):
        raise StepFailed("the tests fail with nothing planted; run ./herald test")


def _is_noticed(copy: Path, bug: Any, environment: dict[str, str]) -> bool:
    """Whether a test fails where the bug is planted; the file is as it was afterwards."""
    path = copy / bug.file
    text = path.read_text()
    if text.count(bug.old) != 1:
        raise StepFailed(f"{bug.file} holds “{bug.old[:60]}” {text.count(bug.old)} times: see tests/mutants/bugs.py")
    path.write_text(text.replace(bug.old, bug.new))
    try:
        if bug.file.startswith("web/"):
            command = ["npx", "vitest", "related", "--run", str(copy / bug.file)]
            return _fails(command, copy / "web", {})
        return _fails(_pytest(*bug.tests), copy, _python(copy, environment))
    finally:
        path.write_text(text)


def _pytest(*tests: str) -> list[str]:
    return [str(BIN / "pytest"), "-x", "-p", "no:cacheprovider", "--reuse-db", *tests]


def _python(copy: Path, environment: dict[str, str]) -> dict[str, str]:
    """The copy's code comes before the installed one."""
    return {**environment, "PYTHONPATH": f"{copy / 'src'}{os.pathsep}{copy}"}


def _fails(command: list[str], folder: Path, environment: dict[str, str], seconds: float = ONE_SECONDS) -> bool:
    try:
        done = subprocess.run(
            command,
            cwd=folder,
            env={**os.environ, "HERALD_SECRET_KEY": "tests", **environment},
            capture_output=True,
            timeout=seconds,
            check=False,
        )
    except subprocess.TimeoutExpired:
        return True
    if done.returncode > 2:  # 1: a test failed; 2: the code could not even be imported, which is noticing too
        raise StepFailed(f"{' '.join(command[-2:])} ended with {done.returncode}: {done.stderr[-500:]!r}")
    return done.returncode != 0
