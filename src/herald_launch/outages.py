"""Cutting the demo's devices at a site off for a while, by the file that the simulated fleet reads."""

import json
import os
import time

from herald_launch.instance import OUTAGES, Instance
from herald_launch.steps import StepFailed

MOST_NAMED = 12


def cut_off(instance: Instance, site: str, *, minutes: float) -> str:
    """Cut a site off for so many minutes of the demo's time, or let it through again with 0; what that means, in words.

    Raises:
        StepFailed: there is no demo, or no device at the site.
    """
    manifest = instance.folder / "fleet.json"
    if not instance.choices.demo or not manifest.exists():
        raise StepFailed("there is no demo here whose devices could be cut off; start one with ./herald start")
    sites = [d["site"] for d in json.loads(manifest.read_text())["devices"]]
    if site not in sites:
        named = sorted(set(sites))
        more = f" and {len(named) - MOST_NAMED} more" if len(named) > MOST_NAMED else ""
        raise StepFailed(f"the demo has no site “{site}”; it has {', '.join(named[:MOST_NAMED])}{more}")
    seconds = minutes * 60 / instance.choices.speed
    path = instance.folder / OUTAGES
    known = json.loads(path.read_text()) if path.exists() else {}
    now = time.time()
    kept = {name: until for name, until in known.items() if until > now and name != site}
    if minutes:
        kept[site] = now + seconds
    beside = path.with_suffix(".new")
    beside.write_text(json.dumps(kept))
    os.replace(beside, path)  # a reader sees the one or the other, never half
    count = sites.count(site)
    devices = "1 device" if count == 1 else f"{count} devices"
    if not minutes:
        return f"{devices} at {site} get through again"
    verb = "is" if count == 1 else "are"
    return f"{devices} at {site} {verb} cut off for {minutes:g} minutes of the demo's time, {seconds:.0f} s of yours"
