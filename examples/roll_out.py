"""Roll the newest approved firmware out to a group, in three rings at night: python roll_out.py "Field gateways"

Says whom it reaches and who is left out, and launches it for that number of devices.
"""

import sys

from herald import call

group = next(g["id"] for g in call("GET", "groups") if g["name"] == sys.argv[1])
rings = [
    {"name": "First few", "kind": "number", "number": 10, "soak_minutes": 60},
    {"name": "A tenth", "kind": "share", "share_pct": 10, "soak_minutes": 720},
    {"name": "All others", "kind": "rest"},
]
draft = {"changes": [{"choice": "newest"}], "include": [group], "rings": rings, "failure_limit_pct": 2}
draft |= {"window_start": "01:00", "window_end": "05:00"}
rollout = call("POST", "rollouts", draft)["id"]
found = call("POST", f"rollouts/{rollout}/preflight")
for outcome in found["outcomes"]:
    if outcome["count"]:
        print(f"{outcome['count']}: {outcome['words']}")
call("POST", f"rollouts/{rollout}/launch", {"devices": found["reached"]})
print(f"rollout {rollout} launched for {found['reached']} devices")
