"""`./herald test fuzz`: a tool that reads the OpenAPI documents makes up requests for each call, as each role.

Nothing may answer 500, every status and every body must be as documented, and whoever is limited to a part of the
fleet is told the name, the serial number and the id of no device outside it. Prints one JSON object a line for each
document and role, and what the tool found where it found something.
"""

import argparse
import json
import os
import subprocess
import sys
import tempfile
import urllib.request
from collections.abc import Collection
from pathlib import Path

from herald_launch.steps import ROOT
from tests.running import Running

DEVICES, SPEED = 120, 60.0
#: first whoever is limited: the others move devices into what is theirs
LIMITED, ROLES = "crew", ("engineer", "approver", "admin", "reader")
CHECKS = (
    "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance,nothing_foreign"
)
OPTIONS = (
    *("--phases", "fuzzing", "--checks", CHECKS, "--request-timeout", "30"),
    *("--continue-on-failure", "--no-color", "--warnings", "off", "--generation-database", "none"),
)
SHOWN_CHARACTERS = 8000


class Fuzz:
    """Runs the tool against one document after the other."""

    def __init__(self, tool: str, seconds: int, seed: int) -> None:
        self._tool, self._seconds, self._seed = tool, seconds, seed
        self.failed: list[str] = []

    def run(self, who: str, document: str, url: str, secret: str, *, foreign: Collection[str] = ()) -> None:
        """Fuzz every call of a document for a while, as somebody who must not be told the `foreign` words."""
        command = [
            *(self._tool, "run", document, "--url", url, "--header", f"Authorization:Bearer {secret}"),
            *("--max-time", str(self._seconds), "--seed", str(self._seed), *OPTIONS),
        ]
        with tempfile.TemporaryDirectory(prefix="herald-fuzz-") as folder:  # for what the tool keeps
            words = Path(folder) / "foreign"
            words.write_text("\n".join(foreign))
            hooks = {"SCHEMATHESIS_HOOKS": "tests.fuzz.foreign", "HERALD_FUZZ_FOREIGN": str(words)}
            environment = {**os.environ, **hooks, "PYTHONPATH": str(ROOT)}
            done = subprocess.run(command, capture_output=True, text=True, check=False, cwd=folder, env=environment)
        told = {"fuzz": who, "seconds": self._seconds, "seed": self._seed, "failed": bool(done.returncode)}
        print(json.dumps(told), flush=True)
        if done.returncode:
            self.failed.append(who)
            print(done.stdout[-SHOWN_CHARACTERS:], done.stderr[-SHOWN_CHARACTERS:], flush=True)


def foreign_words(installation: Running, secret: str) -> list[str]:
    """What names the devices that somebody does not see."""
    request = urllib.request.Request(
        f"{installation.url}/api/v1/devices?limit=1000", headers={"Authorization": f"Bearer {secret}"}
    )
    with urllib.request.urlopen(request, timeout=60) as answer:
        seen = {d["uid"] for d in json.load(answer)["devices"]}
    with installation.database() as connection:
        every = connection.execute("SELECT uid, name, serial FROM fleet_device").fetchall()
    foreign = [words for words in every if words[0] not in seen]
    assert seen and foreign, "somebody who is limited sees some devices, and not others"
    return sorted({str(word) for words in foreign for word in words if word})


def main() -> None:
    """Fuzz for so many minutes, shared among the roles and a device."""
    parser = argparse.ArgumentParser(prog="tests.fuzz")
    parser.add_argument("--tool", required=True, help="the program that makes up requests")
    parser.add_argument("--minutes", type=float, required=True)
    parser.add_argument("--seed", type=int, required=True)
    asked = parser.parse_args()
    fuzz = Fuzz(asked.tool, max(10, int(asked.minutes * 60 / (len(ROLES) + 2))), asked.seed)
    document = str(ROOT / "docs" / "openapi.json")
    with Running.in_a_folder(devices=DEVICES, speed=SPEED) as installation:
        secret = installation.token_of(f"{LIMITED}@larkfield.example")
        foreign = foreign_words(installation, secret)
        fuzz.run(LIMITED, document, installation.url, secret, foreign=foreign)
        for role in ROLES:
            fuzz.run(role, document, installation.url, installation.token_of(f"{role}@larkfield.example"))
        gateway = f"http://127.0.0.1:{installation.gateway_port}"
        fuzz.run("device", f"{gateway}/device/v1/schema", gateway, installation.secret_of_a_device())
    sys.exit(1 if fuzz.failed else 0)


if __name__ == "__main__":
    main()
