"""Background work of the calendar."""

from procrastinate.contrib.django import app

from herald.calendar import sources
from herald.http.outbound import LOCK
from herald.time import clock


@app.periodic(cron="* * * * *")
@app.task(queue="calendars", lock=LOCK, queueing_lock="read_calendars")
def read_calendars(timestamp: int) -> None:
    """Read the calendars elsewhere that are due."""
    sources.read_due(now=clock.now())
