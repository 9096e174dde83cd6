"""Which rollouts send an image, and stopping them when it is withdrawn."""

from collections.abc import Collection, Mapping
from datetime import datetime

from herald.deliveries.models import Delivery
from herald.images.references import (
    ImageUse,
    counts_failures,
    register_image_stopper,
    register_version_history,
    tells_image_uses,
)
from herald.rollouts.intervene import lifecycle
from herald.rollouts.models import Rollout, RolloutState
from herald.rollouts.watch.sentence import short_words
from herald_core.versions import version_key_or_none


@tells_image_uses
def open_rollouts(image_id: int) -> list[ImageUse]:
    """The drafts and open rollouts that send the image, as target or on the way."""
    return [
        ImageUse(
            kind="rollout", id=r.pk, sentence=f"Rollout {r.pk} of {short_words(r)} ({r.get_state_display().lower()})"
        )
        for r in Rollout.objects.of_image(image_id)
    ]


@counts_failures
def failures() -> Mapping[int, int]:
    """On how many devices each image failed for good."""
    return dict(Delivery.objects.failed_by_image())


@register_version_history
def versions_before(since: datetime) -> Collection[tuple[int, str]]:
    """What devices had before rollouts since then: putting one back needs it."""
    rows = Delivery.objects.versions_before(since)
    return {(model, key) for model, version in rows if (key := version_key_or_none(version)) is not None}


@register_image_stopper
def halt_rollouts(image_id: int, now: datetime) -> None:
    """Running rollouts of the image halt: nothing more is offered; who is at it finishes."""
    for rollout in Rollout.objects.of_image(image_id).filter(state=RolloutState.RUNNING):
        lifecycle.halt(rollout, reason="the image was withdrawn", now=now)
