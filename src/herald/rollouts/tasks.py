"""Background work of rollouts."""

from procrastinate import JobContext, RetryStrategy
from procrastinate.contrib.django import app

from herald.attention.quarantine import first_line
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout
from herald.rollouts.watch import stored_forecasts
from herald.time import clock

ATTEMPTS = 3


@app.task(queue="rollouts", retry=RetryStrategy(max_attempts=ATTEMPTS, wait=2), pass_context=True)
def carry_out_launch(context: JobContext | None, rollout_id: int) -> None:
    """Write the deliveries of a rollout that was asked to launch; after the last attempt the launch has failed."""
    rollout = Rollout.objects.filter(pk=rollout_id).first()
    if rollout is None:
        return
    try:
        launching.launch(rollout, now=clock.now())
    except Exception as error:
        if context is not None and context.job is not None and context.job.attempts >= ATTEMPTS:
            launching.fail_launch(rollout_id, first_line(error), now=clock.now())
        raise


@app.periodic(cron="* * * * *")
@app.task(queue="forecasts", queueing_lock="store_forecasts")
def store_forecasts(timestamp: int) -> None:
    """Forecast the open rollouts anew, for the lists that show when each will be through."""
    stored_forecasts.store_forecasts(now=clock.now())
