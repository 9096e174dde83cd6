"""What a release promises: one version everywhere, and that its data come along to whatever is here now."""

import json
import os
import re
import subprocess
import sys
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from herald_launch.instance import DATABASE
from herald_launch.postgres import Cluster
from herald_launch.steps import ROOT
from herald_launch.test_database import TEST_FOLDER

RELEASES = Path(__file__).parent / "releases"
#: asks the main lists as a person who may see all, in a program of its own: the tests' database is another one
ASK = """
import django, json
django.setup()
from rest_framework.test import APIClient
from herald.people.models import User
client = APIClient()
client.force_authenticate(User.objects.get(email="engineer@larkfield.example"))
said = {}
for path in ("now", "devices?limit=1", "groups", "rollouts", "rollouts/4", "schedules", "images", "record", "freezes"):
    answer = client.get(f"/api/v1/{path}", headers={"host": "localhost"})
    assert answer.status_code == 200, (path, answer.status_code, answer.content[:500])
    said[path] = answer.json()
print(json.dumps(said))
"""


def test_one_version_everywhere() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["version"]
    client = json.loads((ROOT / "web" / "package.json").read_text())["version"]
    # what is not released yet stands before the newest release
    changes = re.search(r"^## (\d\S*)", (ROOT / "CHANGELOG.md").read_text(), re.MULTILINE)
    assert changes is not None
    assert project == client == changes[1]


def what_is_in_it(ask: Callable[[str], Any]) -> dict[str, Any]:
    """What must be the same after an upgrade."""
    return {
        "devices": ask("devices?limit=1")["count"],
        "groups": {g["name"]: g["member_count"] for g in ask("groups")},
        "rollouts": {str(r["id"]): r["phases"] for r in ask("rollouts")["rollouts"]},
        "images": sorted(i["name"] for i in ask("images")),
        "record": ask("record")["count"],
    }


def upgraded(release: str) -> dict[str, Any]:
    """What is in the dump of a release once its tables are those of now."""
    cluster = Cluster(TEST_FOLDER / "postgres", fast=True)
    cluster.start()
    database = f"{DATABASE}_release"
    cluster.ensure_database(database, fresh=True)
    environment = {
        **os.environ,
        "DATABASE_URL": cluster.url(database),
        "HERALD_SECRET_KEY": "tests",
        "HERALD_DEMO": "1",
        "DJANGO_SETTINGS_MODULE": "herald.settings",
        "PYTHONPATH": str(ROOT / "src"),
    }
    restore = [str(cluster.bin / "pg_restore"), "--no-owner", "--dbname", cluster.url(database)]
    python = [sys.executable]
    try:
        for command in (
            [*restore, str(RELEASES / f"{release}.dump")],
            [*python, "manage.py", "migrate", "--no-input"],
            [*python, "-c", ASK],
        ):
            done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, text=True, check=False)
            assert done.returncode == 0, done.stdout + done.stderr
    finally:
        cluster.drop_database(database)
    return what_is_in_it(json.loads(done.stdout).__getitem__)


@pytest.mark.parametrize("release", sorted(p.stem for p in RELEASES.glob("*.dump")))
def test_the_data_of_an_earlier_release_come_along(release: str) -> None:
    assert upgraded(release) == json.loads((RELEASES / f"{release}.json").read_text())
