"""`./herald test fuzz`: a tool that reads the OpenAPI documents makes up requests for each call, as each role.

Nothing may answer 500, every status and every body must be as documented. Prints one JSON object a line for each
document and role, and what the tool found where it found something.
"""

import argparse
import json
import subprocess
import sys
import tempfile

from herald_launch.steps import ROOT
from tests.running import Running

DEVICES, SPEED = 120, 60.0
ROLES = ("engineer", "approver", "admin", "reader")
CHECKS = "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance"
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

    def run(self, who: str, document: str, url: str, secret: str) -> None:
        """Fuzz every call of a document for a while, as somebody."""
        command = [
            *(self._tool, "run", document, "--url", url, "--header", f"Authorization:Bearer {secret}"),
            *("--max-time", str(self._seconds), "--seed", str(self._seed), *OPTIONS),
        ]
        with tempfile.TemporaryDirectory(prefix="herald-fuzz-") as folder:  # for what the tool keeps
            done = subprocess.run(command, capture_output=True, text=True, check=False, cwd=folder)
        told = {"fuzz": who, "seconds": self._seconds, "seed": self._seed, "failed": bool(done.returncode)}
        print(json.dumps(told), flush=True)
        if done.returncode:
            self.failed.append(who)
            print(done.stdout[-SHOWN_CHARACTERS:], done.stderr[-SHOWN_CHARACTERS:], flush=True)


def main() -> None:
    """Fuzz for so many minutes, shared among the roles and a device."""
    parser = argparse.ArgumentParser(prog="tests.fuzz")
    parser.add_argument("--tool", required=True, help="the program that makes up requests")
    parser.add_argument("--minutes", type=float, required=True)
    parser.add_argument("--seed", type=int, required=True)
    asked = parser.parse_args()
    fuzz = Fuzz(asked.tool, max(10, int(asked.minutes * 60 / (len(ROLES) + 1))), asked.seed)
    document = str(ROOT / "docs" / "openapi.json")
    with Running.in_a_folder(devices=DEVICES, speed=SPEED) as installation:
        for role in ROLES:
            fuzz.run(role, document, installation.url, installation.token_of(f"{role}@larkfield.example"))
        gateway = f"http://127.0.0.1:{installation.gateway_port}"
        fuzz.run("device", f"{gateway}/device/v1/schema", gateway, installation.secret_of_a_device())
    sys.exit(1 if fuzz.failed else 0)


if __name__ == "__main__":
    main()
