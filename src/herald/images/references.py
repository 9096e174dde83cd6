"""What is under way with an image. Rooms above this one say so at start-up: this room knows none of them."""

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, kw_only=True)
class ImageUse:
    """Something that would send an image."""

    kind: str
    id: int
    sentence: str


#: image ids, and how many devices failed on each
FailureCounter = Callable[[], Mapping[int, int]]
#: models and version keys that devices had lately, and may have to be given back, since a moment
FormerVersions = Callable[[datetime], Collection[tuple[int, str]]]
Finder = Callable[[int], list[ImageUse]]
Stopper = Callable[[int, datetime], None]
_FINDERS: list[Finder] = []
_STOPPERS: list[Stopper] = []
_COUNTERS: list[FailureCounter] = []
_FORMER: list[FormerVersions] = []


def tells_image_uses(finder: Finder) -> Finder:
    """Let a room say which of its open things would send the image with a given id."""
    _FINDERS.append(finder)
    return finder


def register_image_stopper(stopper: Stopper) -> Stopper:
    """Let a room stop sending the image with a given id when it is withdrawn."""
    _STOPPERS.append(stopper)
    return stopper


def image_uses(image_id: int) -> list[ImageUse]:
    """What would send the image."""
    return [use for finder in _FINDERS for use in finder(image_id)]


def stop_sending(image_id: int, now: datetime) -> None:
    """Have every room stop sending the image."""
    for stopper in _STOPPERS:
        stopper(image_id, now)


def counts_failures(counter: FailureCounter) -> FailureCounter:
    """Let a room say on how many devices each image failed."""
    _COUNTERS.append(counter)
    return counter


def failed_on() -> dict[int, int]:
    """For each image on which devices failed, how many."""
    found: dict[int, int] = {}
    for counter in _COUNTERS:
        for image, count in counter().items():
            found[image] = found.get(image, 0) + count
    return found


def register_version_history(former: FormerVersions) -> FormerVersions:
    """Let a room say which versions devices had before what it did to them."""
    _FORMER.append(former)
    return former


def former_versions(since: datetime) -> set[tuple[int, str]]:
    """Models with the keys of versions that devices had before a change since then."""
    return {pair for former in _FORMER for pair in former(since)}
