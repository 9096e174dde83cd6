"""`herald-ctl` and the scripts of `examples/`, as somebody runs them against a whole installation: no browser, but the
same server, fleet and clock."""

import json
import os
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from functools import cache
from pathlib import Path
from typing import Any

from tests.running import ENGINEER, ROOT, Running

PATIENCE_SECONDS = 300


def typed(running: Running, *words: str, **also: Any) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "herald_ctl", *words],
        env=environment(running),
        capture_output=True,
        text=True,
        timeout=PATIENCE_SECONDS,
        check=False,
        **also,
    )


@cache
def token(running: Running) -> str:
    return running.token_of(ENGINEER)


def environment(running: Running) -> dict[str, str]:
    own = {"PYTHONPATH": str(ROOT / "ctl" / "src"), "HERALD_URL": running.url}
    own |= {"HERALD_TOKEN": token(running)}
    return {**{k: v for k, v in os.environ.items() if not k.startswith("HERALD_")}, **own}


def test_a_rollout_is_launched_watched_and_stopped_from_the_command_line(running: Running) -> None:
    """It begins in a year, so no device is ahead of the stop."""
    found = typed(running, "preview", "-", "--limit", "8", "--json", input="family = Sill and firmware < 5.2.0")
    devices = json.loads(found.stdout)["devices"]
    assert len(devices) == 8
    draft = {
        "name": "From the command line",
        "changes": [{"choice": "newest"}],
        "include": [],
        "include_devices": [device["uid"] for device in devices],
        "rings": [{"name": "All", "kind": "rest"}],
        "starts_at": (datetime.now(UTC) + timedelta(days=365)).isoformat(),
    }
    rollout = running.api("POST", "rollouts", draft)["id"]
    asked = typed(running, "launch", "from the command line")
    assert asked.returncode == 1, asked.stdout
    # whom it reaches, and how a script agrees to that
    reached = asked.stderr.split("--devices ")[1].rstrip(".\n")
    assert int(reached) > 0
    launched = typed(running, "launch", str(rollout), "--devices", reached)
    assert launched.returncode == 0, launched.stderr
    running.until(f"rollouts/{rollout}", lambda r: r["state"] == "running")
    with subprocess.Popen(
        [sys.executable, "-m", "herald_ctl", "watch", str(rollout), "--json"],
        env=environment(running),
        stdout=subprocess.PIPE,
        text=True,
    ) as watching:
        assert watching.stdout is not None
        first = json.loads(watching.stdout.readline())
        assert (first["id"], first["state"], first["total"]) == (rollout, "running", int(reached))
        stopped = typed(running, "stop", "From the command line", "--yes")
        assert f"{reached} device" in stopped.stdout and "withdrawn" in stopped.stdout, stopped
        lines = [json.loads(line) for line in watching.stdout]
        assert (watching.wait(PATIENCE_SECONDS), lines[-1]["state"]) == (3, "stopped")


def example(running: Running, script: str, *words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, str(ROOT / "examples" / script), *words],
        env=environment(running),
        capture_output=True,
        text=True,
        timeout=PATIENCE_SECONDS,
        check=False,
    )


def _forget(running: Running, group: str, file: str) -> None:
    """Nothing of it stays for other tests to count."""
    found = next(g["id"] for g in running.ask("groups") if g["name"] == group)
    for rollout in running.ask("rollouts?stage=draft")["rollouts"]:
        if found in [g["id"] for g in running.ask(f"rollouts/{rollout['id']}")["include"]]:
            running.api("DELETE", f"rollouts/{rollout['id']}")
    running.api("DELETE", f"groups/{found}")
    done = [i for i in running.ask("imports")["imports"] if i["file_name"] == file and i["state"] == "done"]
    for one in done:  # the later one first
        running.api("POST", f"imports/{one['id']}/undo")
        running.until(f"imports/{one['id']}", lambda i: i["state"] == "undone")


def test_the_examples_go_from_a_file_of_devices_to_a_report(running: Running, tmp_path: Path) -> None:
    """Each as its first line says; what one prints is what the next one needs."""
    file = tmp_path / "devices.csv"
    file.write_text("uid,name,model,tag\nEX-1,example-1,Sill 400,by-script\nEX-2,example-2,Sill 400,by-script\n")
    imported = example(running, "import_devices.py", str(file))
    assert imported.stdout.splitlines() == ["2 new, 0 changed, 0 the same", "done: 2 devices"], imported
    assert example(running, "import_devices.py", str(file)).stdout.startswith("0 new, 0 changed, 2 the same")
    grouped = example(running, "group_by_rule.py", "By script", "tag = by-script")
    assert grouped.stdout.startswith("2 of ") and "example-1, example-2" in grouped.stdout, grouped
    again = example(running, "group_by_rule.py", "By script", "tag = by-script")
    assert again.returncode == 1 and "There is a group called" in again.stderr
    # they never called, so nobody knows what they run, and nobody is reached
    nobody = example(running, "roll_out.py", "By script")
    assert nobody.returncode == 1 and "2: left out" in nobody.stdout, nobody
    _forget(running, "By script", file.name)
    for family in ("Sill", "Vane", "Drum", "Rill"):  # other tests may have brought all of one up to date
        example(running, "group_by_rule.py", f"All {family}", f"family = {family}")
        launched = example(running, "roll_out.py", f"All {family}")
        if launched.returncode == 0:
            break
        _forget(running, f"All {family}", file.name)
    assert launched.returncode == 0, launched.stderr
    rollout = launched.stdout.split("rollout ")[1].split()[0]
    running.until(f"rollouts/{rollout}", lambda r: r["state"] != "launching")
    told = example(running, "rollout_report.py", rollout)
    assert told.returncode == 0 and "First few: " in told.stdout and "All others: " in told.stdout, told
