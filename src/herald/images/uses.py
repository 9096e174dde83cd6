"""What is under way with an image. Rooms above this one say so at start-up: this room knows none of them."""

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, kw_only=True)
class ImageUse:
    """Something that would send an image."""

    kind: str
    id: int
    sentence: str


Finder = Callable[[int], list[ImageUse]]
Stopper = Callable[[int, datetime], None]
_FINDERS: list[Finder] = []
_STOPPERS: list[Stopper] = []


def tells_image_uses(finder: Finder) -> Finder:
    """Let a room say which of its open things would send the image with a given id."""
    _FINDERS.append(finder)
    return finder


def stops_image(stopper: Stopper) -> Stopper:
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
