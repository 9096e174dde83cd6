"""Import devices from a CSV file or a workbook: python import_devices.py devices.csv

Says what the file would do before it is accepted, and ends without a change where a row is wrong.
"""

import sys
import time
from pathlib import Path

from herald import call, upload

made = upload("imports", Path(sys.argv[1]))
while made["state"] == "checking":
    time.sleep(0.5)
    made = call("GET", f"imports/{made['id']}")
print(f"{made['new_count']} new, {made['changed_count']} changed, {made['unchanged_count']} the same")
if made["wrong_count"] or made["state"] != "checked":
    sys.exit(f"{made['wrong_count']} rows are wrong. {made['reason']}")
# where something running follows a group that these devices would join, this ends with what it is
made = call("POST", f"imports/{made['id']}/accept", {})
while made["state"] == "applying":
    time.sleep(0.5)
    made = call("GET", f"imports/{made['id']}")
print(f"{made['state']}: {made['written_count']} devices")
