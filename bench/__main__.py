"""`python -m bench NAME`; `./herald bench NAME` makes the database and calls this."""

import os
import sys

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "herald.settings")
django.setup()

from bench import (  # noqa: E402  Django first
    calendar,
    checkins,
    clock,
    common_causes,
    draws,
    firing,
    follow,
    forecast,
    groups,
    halting,
    idle,
    importing,
    kills,
    launch,
    limits,
    now,
    preview,
    simulate,
    storm,
    stream,
    values,
    years,
)

BENCHES = {
    "calendar": calendar.run,
    "firing": firing.run,
    "storm": storm.run,
    "stream": stream.run,
    "clock": clock.run,
    "common_causes": common_causes.run,
    "draws": draws.run,
    "forecast": forecast.run,
    "halting": halting.run,
    "idle": idle.run,
    "preview": preview.run,
    "simulate": simulate.run,
    "values": values.run,
    "years": years.run,
    "import": importing.run,
    "checkins": checkins.run,
    "groups": groups.run,
    "kills": kills.run,
    "launch": launch.run,
    "limits": limits.run,
    "now": now.run,
    "follow": follow.run,
}

if __name__ == "__main__":
    BENCHES[sys.argv[1]]()
