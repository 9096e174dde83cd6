"""How a rollout went, ring by ring, with its failures: python rollout_report.py 7"""

import sys

from herald import call

report = call("GET", f"rollouts/{sys.argv[1]}/report")
print(report["sentence"])
for ring in report["rollout"]["rings"]:
    phases = ring["phases"]
    print(f"{ring['name']}: {phases.get('confirmed', 0)} of {ring['size']} confirmed, {phases.get('failed', 0)} failed")
for device in report["failed_devices"][:20]:
    print(f"failed: {device['device']}, {device['text']}")
