"""Restart three groups every Sunday at 04:00 device time: one schedule, in one call. HERALD_TOKEN is an API token."""

import json
import os
from urllib.request import Request, urlopen

command = {"include": ["Amber Fold", "Oxbow Flats", "Thistle Bank"], "template": "restart", "when": "repeat"}
command |= {"rule": "FREQ=WEEKLY;BYDAY=SU", "time_of_day": "04:00", "reason": "a fresh start each week"}
headers = {"Authorization": f"Bearer {os.environ['HERALD_TOKEN']}", "Content-Type": "application/json"}
request = Request(os.environ["HERALD_URL"] + "/api/v1/schedules", json.dumps(command).encode(), headers)
with urlopen(request) as answer:
    print(json.load(answer)["id"])
