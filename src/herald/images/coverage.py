"""How much of the fleet an image is for: fits, is ready for it, runs it, failed on it."""

from collections import Counter
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import date

from herald.fleet.models import Device
from herald.images.builds import build_of, upgrades_now
from herald.images.models import Image, ImageStatus
from herald.images.references import failed_on
from herald_core.upgrades import Upgrades

#: devices by model, hardware revision and version key
Standing = Mapping[tuple[int, str, str | None], int]


@dataclass(frozen=True, kw_only=True)
class Share:
    """Devices of the image's models and revisions; those that could be brought to it from an older version, by steps
    where it must be; those on its version; those on which it failed for good."""

    fits: int
    ready: int
    runs: int
    failed: int


def shares(images: Collection[Image], today: date) -> dict[int, Share]:
    """The shares of these images by their ids."""
    standing: Standing = Counter(Device.objects.standing_of_all())
    failed = failed_on()
    upgrades = upgrades_now(today, [i.pk for i in images if i.status == ImageStatus.NEW])
    return {i.pk: _share(i, standing, upgrades, failed.get(i.pk, 0), today) for i in images}


def _share(image: Image, standing: Standing, upgrades: Upgrades, failed: int, today: date) -> Share:
    build = build_of(image, today)
    fits = ready = runs = 0
    for (model, revision, key), count in standing.items():
        if not build.fits(model, revision):
            continue
        fits += count
        if key == build.key:
            runs += count
        elif key is not None and key < build.key and image.status != ImageStatus.WITHDRAWN:
            ready += count if upgrades.graph(model, revision).path(key, build) is not None else 0
    return Share(fits=fits, ready=ready, runs=runs, failed=failed)
