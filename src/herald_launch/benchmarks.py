"""`./herald bench`: measurements on a database of their own, beside whatever runs."""

import os
import subprocess

from herald_launch import install
from herald_launch.instance import DATABASE
from herald_launch.postgres import Cluster
from herald_launch.steps import PYTHON, ROOT, StepFailed, run, say

FOLDER = ROOT / "var" / "bench"
NAMES = {
    "draws": "how even a drawn ring is, beside a random draw",
    "forecast": "how often the band of a forecast holds the true end, and how long it takes",
    "simulate": "a rollout of 10,000 devices over two weeks, played by the core alone",
    "halting": "how often rollouts halt at given failure rates, beside a plain count",
    "common_causes": "whether planted causes of failures are found, and none where there is none",
    "preview": "a rule on 100,000 devices, beside hand-written SQL",
    "groups": "saving a rule, the tree, and a device's change told while 2,000 call each second",
    "values": "the sieve, values that exist, a grid, why one device is in",
    "import": "100,000 rows checked and written",
    "idle": "CPU of each process at rest, with 2,431 devices that call and with 100,000 that do not",
    "checkins": "check-ins a second, beside a no-op on the same path",
    "launch": "launching to 100,000 devices",
    "calendar": "a week of the calendar at 100,000 devices, with 50 rollouts and 200 schedules",
    "firing": "a daily command for 100,000 devices: written zone by zone, level over its spread",
    "storm": "the gateway while a command fires for 100,000 devices at once, and spread",
    "clock": "a turn of the clock with 20 open rollouts of 5,000 devices, and a watch page meanwhile",
    "kills": "20 rollouts, a random process killed with -9 at a random moment of each: what was lost or repeated",
    "now": "Now at 100,000 devices with 20 open rollouts",
    "stream": "how soon 200 listeners hear of a change, and the memory they take",
    "limits": "the main requests of somebody who sees a third of the fleet",
    "years": "what the gateway answers like while a million answers with five million steps are deleted",
    "follow": "changed devices looked at again for 200 groups",
}


def run_bench(name: str) -> None:
    """Run one bench, or list them.

    Raises:
        StepFailed: there is none of that name, or it broke (whatever it measures, it exits 0).
    """
    if not name:
        for known, what in NAMES.items():
            print(f"{known:<10} {what}")
        return
    if name not in NAMES:
        raise StepFailed(f"there is no bench called {name}; there are {', '.join(NAMES)}")
    install.ensure_postgres()
    cluster = Cluster(FOLDER / "postgres")
    cluster.start()
    cluster.ensure_database(DATABASE)
    environment = {
        "DATABASE_URL": cluster.url(DATABASE),
        "HERALD_SECRET_KEY": "bench",
        "HERALD_DATA_DIR": str(FOLDER / "data"),
        "PYTHONPATH": os.pathsep.join([str(ROOT / "src"), str(ROOT)]),
        "OPENBLAS_NUM_THREADS": "1",
    }
    try:
        run([PYTHON, "manage.py", "migrate", "--verbosity", "0"], doing="making the tables", env=environment)
        done = subprocess.run([PYTHON, "-m", "bench", name], cwd=ROOT, env={**os.environ, **environment}, check=False)
    finally:
        cluster.stop()
    if done.returncode:
        raise StepFailed(f"the bench {name} broke (exit {done.returncode})")
    say("done")
