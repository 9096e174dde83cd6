"""The hours that a new rollout begins with, as long as nobody chose any."""

from collections.abc import Collection
from dataclasses import dataclass
from datetime import time

from herald.deliveries.models import Delivery
from herald.groups.audience import members_of
from herald.groups.models import Group
from herald.images.models import Image
from herald.rollouts.models import Rollout

#: where nobody has sent these models anything in a window yet, by the devices' own clocks
FROM, UNTIL = time(1), time(5)
#: so many of the latest rollouts are looked at
_LATEST = 40


@dataclass(frozen=True, kw_only=True)
class UsualHours:
    """Hours by the devices' own clocks, on these days or (none) daily, and the rollout that had them last."""

    window_start: time = FROM
    window_end: time = UNTIL
    window_days: Collection[int] = ()
    rollout: Rollout | None = None


def usual_hours(
    images: Collection[Image],
    include: Collection[Group],
    exclude: Collection[Group] = (),
    devices: Collection[int] = (),
) -> UsualHours:
    """The hours last used for the models of an audience, or, where there is none yet, of the images."""
    models = set(members_of(include, exclude, devices).order_by().values_list("model_id", flat=True).distinct())
    if not models:
        models = {m for image in images for m in image.device_models.values_list("pk", flat=True)}
    # who installs at any hour does so on purpose, each time
    launched = Rollout.objects.filter(launched_at__isnull=False, window_start__isnull=False, rolls_back=None)
    for rollout in launched.order_by("-launched_at", "-id")[:_LATEST]:
        if Delivery.objects.of_rollout(rollout.pk).filter(device__model__in=models).exists():
            start, end = rollout.window_start or FROM, rollout.window_end or UNTIL
            return UsualHours(window_start=start, window_end=end, window_days=rollout.window_days, rollout=rollout)
    return UsualHours()
