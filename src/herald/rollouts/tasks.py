"""Background work of rollouts."""

from procrastinate import RetryStrategy
from procrastinate.contrib.django import app

from herald.clock.source import clock
from herald.rollouts import launching
from herald.rollouts.models import Rollout


@app.task(queue="rollouts", retry=RetryStrategy(max_attempts=3, wait=2))
def carry_out_launch(rollout_id: int) -> None:
    """Write the deliveries of a rollout that was asked to launch."""
    rollout = Rollout.objects.filter(pk=rollout_id).first()
    if rollout is not None:
        launching.launch(rollout, now=clock.now())
