"""Background work of this room."""

from procrastinate.contrib.django import app

from herald.people.idempotency import forget_answers
from herald.people.sessions import forget_expired
from herald.retention.running import delete_old
from herald.time import clock

#: a worker gives so much of each minute to it, and launches do not wait longer
SECONDS = 5.0


@app.periodic(cron="23 * * * *")
@app.task(queue="housekeeping", queueing_lock="forget_sessions")
def forget_sessions(timestamp: int) -> None:
    """Forget sessions that ran out, and answers that nobody asks for again."""
    forget_expired()
    forget_answers()


@app.periodic(cron="* * * * *")
@app.task(queue="housekeeping", queueing_lock="delete_old")
def delete_old_rows(timestamp: int) -> None:
    """Delete what is kept no longer."""
    delete_old(now=clock.now(), seconds=SECONDS)
