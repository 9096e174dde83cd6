"""Which rollouts send an image, and stopping them when it is withdrawn."""

from datetime import datetime

from herald.images.uses import ImageUse, stops_image, tells_image_uses
from herald.rollouts import services
from herald.rollouts.models import Rollout, RolloutState
from herald.rollouts.sentence import short_words


@tells_image_uses
def open_rollouts(image_id: int) -> list[ImageUse]:
    """The drafts and open rollouts that send the image, as target or on the way."""
    return [
        ImageUse(
            kind="rollout", id=r.pk, sentence=f"Rollout {r.pk} of {short_words(r)} ({r.get_state_display().lower()})"
        )
        for r in Rollout.objects.of_image(image_id)
    ]


@stops_image
def halt_rollouts(image_id: int, now: datetime) -> None:
    """Running rollouts of the image halt: nothing more is offered; who is at it finishes."""
    for rollout in Rollout.objects.of_image(image_id).filter(state=RolloutState.RUNNING):
        services.halt(rollout, reason="the image was withdrawn", now=now)
