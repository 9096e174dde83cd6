"""Keep what a release makes: `python -m tests.launch.make_release 0.3.0` writes its dump and what is in it."""

import json
import subprocess
import sys

from herald_launch.postgres import Cluster
from tests.launch.test_release import RELEASES, upgraded
from tests.running import Running

DEVICES = 260


def main(release: str) -> None:
    """Start a small demo, dump it, and note what is in the dump."""
    with Running.in_a_folder(devices=DEVICES, fleet=False) as installation:
        cluster = Cluster(installation.folder / "postgres")
        dump = [str(cluster.bin / "pg_dump"), "--format=custom", "--compress=9", "--no-owner"]
        done = subprocess.run([*dump, "--dbname", cluster.url("herald")], check=True, capture_output=True)
    RELEASES.mkdir(exist_ok=True)
    (RELEASES / f"{release}.dump").write_bytes(done.stdout)
    kept = json.dumps(upgraded(release), indent=1, sort_keys=True)
    (RELEASES / f"{release}.json").write_text(kept + "\n")


if __name__ == "__main__":
    main(sys.argv[1])
