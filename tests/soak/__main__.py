"""`./herald test soak`: for hours, one disturbance after the other, while rollouts and commands go on.

Prints one JSON object a line: each disturbance with how long it took to be shown on Now, and at the end the accounts.
"""

import argparse
import json
import random
import sys
import time
from collections.abc import Sequence

from tests.running import Running
from tests.soak.accounts import Accounts
from tests.soak.disturbances import DISTURBANCES, Disturbance, disturb, wait_until_well
from tests.soak.proxy import Link, Proxy, behind_a_proxy

DEVICES, SPEED = 2431, 60.0
#: family, and the versions between which its devices go up and down
FAMILIES = (("Lumen", ("7.2.5", "7.2.0")), ("Vane", ("1.13.0", "1.12.0")), ("Sill", ("5.1.4", "5.1.0")))
#: orders end by themselves within so many hours of the installation's time
GIVE_UP_HOURS = 6
END_SECONDS = 1800.0


class Stream:
    """Devices of a family that go up and down between two versions, one rollout after the other."""

    def __init__(self, installation: Running, accounts: Accounts, family: str, versions: Sequence[str]) -> None:
        self._installation, self._accounts = installation, accounts
        self._images = [installation.image(f"{family} {v}") for v in versions]
        rule = f'family = {family} and presence = "on time" and admission = admitted'
        self.group = int(installation.api("POST", "groups", {"name": f"Soak: {family}", "rule": rule})["id"])
        installation.api("POST", f"groups/{self.group}/convert-to-static")
        self._count, self._rollout = 0, 0

    def go_on(self) -> list[str]:
        """Look whether the rollout has ended, and launch the next one; what is wrong with the one that ended."""
        faults: list[str] = []
        if self._rollout:
            if self._installation.ask(f"rollouts/{self._rollout}")["state"] != "finished":
                return []
            if count := self._accounts.run_another_version(self._rollout):
                faults = [f"{count} confirmed devices of rollout {self._rollout} run another version"]
        self._rollout = self._installation.launch(self._body(), reason="soak")
        self._accounts.rollouts[self._rollout] = self._installation.until(
            f"rollouts/{self._rollout}", lambda r: r["state"] != "launching"
        )["total"]
        self._count += 1
        return faults

    def _body(self) -> dict[str, object]:
        return {
            "changes": [{"choice": "image", "image_id": self._images[self._count % 2]}],
            "downgrades": True,
            "include": [self.group],
            "rings": [
                {"name": "First", "kind": "share", "share_pct": 30, "soak_minutes": 5, "confirmed_pct": 50},
                {"name": "Rest", "kind": "rest", "soak_minutes": 0},
            ],
            "failure_limit_pct": 90,
            "max_attempts": 4,
            "expires_after_hours": GIVE_UP_HOURS,
        }

    def restart(self) -> None:
        """Have the devices restart now, beside whatever is rolled out to them."""
        command = {"template": "restart", "include": [self.group], "when": "now", "spread_minutes": 5}
        reached = self._installation.api("POST", "schedules/preview", command)["reached_now"]
        made = self._installation.api("POST", "schedules", {**command, "devices": reached})
        self._accounts.schedules[int(made["id"])] = reached


class Soak:
    """An installation, its streams of work, and what was found wrong."""

    def __init__(self, installation: Running, proxy: Proxy, families: Sequence[tuple[str, Sequence[str]]]) -> None:
        self.installation, self._proxy = installation, proxy
        self.accounts = Accounts(installation)
        self.faults: list[str] = []
        wait_until_well(installation)
        self._streams = [Stream(installation, self.accounts, *family) for family in families]

    def work(self, *, restart: int | None = None) -> None:
        """Keep every stream going; with `restart`, have the devices of one restart."""
        for stream in self._streams:
            self.faults += stream.go_on()
        if restart is not None:
            self._streams[restart % len(self._streams)].restart()

    def disturb(self, what: Disturbance) -> None:
        """One disturbance, told in a line."""
        began = time.monotonic()
        try:
            shown_after = disturb(self.installation, self._proxy, what)
        except AssertionError as failure:
            self.faults.append(f"{what.name}: {failure}")
            self._proxy.set(Link.WHOLE)
            shown_after = -1.0
        told = {"disturbance": what.name, "shown_after_seconds": round(shown_after, 1) if what.shows else None}
        print(json.dumps({**told, "over_after_seconds": round(time.monotonic() - began, 1)}), flush=True)

    def end(self) -> list[str]:
        """Wait until every order has ended; everything that is wrong."""
        deadline = time.monotonic() + END_SECONDS
        while self.accounts.still_open() and time.monotonic() < deadline:
            time.sleep(2.0)
        wait_until_well(self.installation)
        return [*self.faults, *self.accounts.faults()]


def main() -> None:
    """Disturb for so many minutes."""
    parser = argparse.ArgumentParser(prog="tests.soak")
    parser.add_argument("--minutes", type=float, required=True)
    parser.add_argument("--seed", type=int, required=True)
    asked = parser.parse_args()
    rng, began, count = random.Random(asked.seed), time.monotonic(), 0
    with behind_a_proxy(devices=DEVICES, speed=SPEED) as (installation, proxy):
        soak = Soak(installation, proxy, FAMILIES)
        order: list[Disturbance] = []
        while time.monotonic() - began < asked.minutes * 60:
            soak.work(restart=count if count % 4 == 3 else None)
            time.sleep(rng.uniform(2.0, 20.0))
            order = order or rng.sample(DISTURBANCES, len(DISTURBANCES))  # each once, then all again in another order
            soak.disturb(order.pop())
            count += 1
        faults = soak.end()
    told = {
        "soak": f"{(time.monotonic() - began) / 60:.0f} min at speed {SPEED:g}, {DEVICES} devices, seed {asked.seed}",
        "disturbances": count,
        "rollouts": len(soak.accounts.rollouts),
        "commands": len(soak.accounts.schedules),
    }
    print(json.dumps({**told, "faults": faults}), flush=True)
    sys.exit(1 if faults else 0)


if __name__ == "__main__":
    main()
