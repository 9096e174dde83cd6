"""Background work on lists that groups follow."""

from procrastinate.contrib.django import app

from herald.http.outbound import LOCK
from herald.lists import services
from herald.time import clock


@app.periodic(cron="* * * * *")
@app.task(queue="lists", lock=LOCK, queueing_lock="read_lists")
def read_lists(timestamp: int) -> None:
    """Read the lists that are due."""
    services.read_due(now=clock.now())
