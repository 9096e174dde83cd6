"""Background work of rollouts."""

from procrastinate import JobContext, RetryStrategy
from procrastinate.contrib.django import app

from herald.attention.quarantine import first_line
from herald.clock.source import clock
from herald.rollouts import launching
from herald.rollouts.models import Rollout

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
