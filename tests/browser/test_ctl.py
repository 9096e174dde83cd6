"""`herald-ctl` as somebody runs it, against a whole installation: no browser, but the same server, fleet and clock."""

import json
import os
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from functools import cache
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
