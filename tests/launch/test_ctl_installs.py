"""`pip install ./ctl` alone, in an environment with nothing of Brisk Herald, gives a command that works."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

from herald_launch.steps import ROOT


def test_it_installs_on_its_own_and_says_what_it_lacks(tmp_path: Path) -> None:
    source, place = tmp_path / "ctl", tmp_path / "venv"
    # a build leaves files beside its source
    shutil.copytree(ROOT / "ctl", source, ignore=shutil.ignore_patterns("__pycache__"))
    subprocess.run([sys.executable, "-m", "venv", str(place)], check=True)
    pip = [str(place / "bin" / "pip"), "install", "--quiet", "--disable-pip-version-check", str(source)]
    done = subprocess.run(pip, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    clean = {k: v for k, v in os.environ.items() if not k.startswith(("HERALD_", "PYTHON", "DJANGO_"))}

    def typed(*words: str) -> subprocess.CompletedProcess[str]:
        command = [str(place / "bin" / "herald-ctl"), *words]
        return subprocess.run(command, capture_output=True, text=True, env=clean, cwd=tmp_path, check=False)

    assert typed("--version").stdout == "0.4.0\n"
    assert "watch" in typed("--help").stdout
    refused = typed("list", "groups")
    assert refused.returncode == 1 and "HERALD_URL" in refused.stderr and "Traceback" not in refused.stderr
