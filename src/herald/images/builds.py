"""Images as the core's upgrade graph sees them."""

from collections.abc import Collection
from datetime import date

from herald.images.models import Image, ImageStatus
from herald_core.upgrades import Build, Upgrades


def build_of(image: Image, today: date) -> Build:
    """The image as a step of the graph; offered as the newest only while it is current."""
    begun = image.released_on is None or image.released_on <= today
    ended = image.expires_on is not None and image.expires_on <= today
    return Build(
        id=image.pk,
        version=image.version,
        models=frozenset(m.pk for m in image.device_models.all()),
        hardware_revisions=frozenset(image.hardware_revisions),
        min_version=image.min_version,
        max_version=image.max_version,
        free_space_mb=image.free_space_mb,
        min_battery_pct=image.min_battery_pct,
        current=image.status == ImageStatus.APPROVED and begun and not ended and image.channel == "stable",
    )


def upgrades_now(today: date, also: Collection[int] = ()) -> Upgrades:
    """The graphs of all approved images, and of those in `also`, whatever their status."""
    images = Image.objects.sendable_or(also).prefetch_related("device_models")
    return Upgrades(build_of(i, today) for i in images)
