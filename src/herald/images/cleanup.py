"""Cleaning up images: what nobody runs, needs or can be sent; a rehearsal first, undoable for a week."""

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from django.conf import settings
from django.db import transaction
from django.db.models import F

from herald.fleet.models import DeviceModel
from herald.http.errors import Conflict, Invalid
from herald.images.coverage import shares
from herald.images.models import Image, ImageCleanup, ImageModel, ImageStatus
from herald.images.paths import upgrade_paths
from herald.images.references import former_versions, image_uses
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record

#: what devices had before rollouts of so many days may have to be given back
PUT_BACK_DAYS = timedelta(days=60)
UNDO_DAYS = timedelta(days=7)
_LOOKED_AT_AGAIN = timedelta(days=1)


@dataclass(frozen=True, kw_only=True)
class Candidate:
    """An image with a file, and why that must stay; empty where nothing needs it."""

    image: Image
    kept_because: str


def preview_cleanup(*, now: datetime) -> list[Candidate]:
    """Every image that has a file, in the order of the list, with why it is kept."""
    images = list(Image.objects.listed())
    share = shares(images, now.date())
    on_the_way = _on_the_way(now)
    newest = _newest(images)
    former = former_versions(now - PUT_BACK_DAYS)
    return [
        Candidate(image=i, kept_because=_reason(i, share[i.pk].runs, share[i.pk].ready, on_the_way, newest, former))
        for i in images
    ]


def _reason(
    image: Image,
    runs: int,
    ready: int,
    on_the_way: Collection[int],
    newest: Collection[int],
    former: Collection[tuple[int, str]],
) -> str:
    if image.status == ImageStatus.NEW:
        return "it waits for its approval"
    if runs:
        return f"{runs} devices run it"
    if uses := image_uses(image.pk):
        return uses[0].sentence[0].lower() + uses[0].sentence[1:]
    if any((m.pk, image.version_key) in former for m in image.device_models.all()):
        return f"a rollout of the last {PUT_BACK_DAYS.days} days took devices from it, and may be rolled back"
    if image.status == ImageStatus.WITHDRAWN:
        return ""
    if image.pk in newest:
        return "it is the newest approved"
    if image.pk in on_the_way:
        return f"{ready} devices need it on their way to the newest"
    return ""


def _on_the_way(now: datetime) -> set[int]:
    """Images that devices pass on their way to the newest."""
    found = set()
    for model in DeviceModel.objects.all():
        paths = upgrade_paths(model, now.date())
        image_of = {p.version: p.image_id for p in paths.versions}
        found |= {image_of[s.to_version] for s in paths.steps if s.devices}
    return {pk for pk in found if pk is not None}


def _newest(images: Collection[Image]) -> set[int]:
    """The newest approved image of each model."""
    newest: dict[int, Image] = {}
    for image in images:
        if image.status != ImageStatus.APPROVED:
            continue
        for model in image.device_models.all():
            best = newest.get(model.pk)
            if best is None or best.version_key < image.version_key:
                newest[model.pk] = image
    return {i.pk for i in newest.values()}


def freed_by(images: Collection[Image]) -> int:
    """The bytes that go with the files of these images; a file that another image shares stays."""
    going = {i.pk for i in images}
    shared = set(
        Image.objects.filter(cleaned_at=None, sha256__in=[i.sha256 for i in images])
        .exclude(pk__in=going)
        .values_list("sha256", flat=True)
    )
    return sum({i.sha256: i.size_bytes for i in images if i.sha256 not in shared}.values())


def clean(image_ids: Collection[int], *, actor: User | None, now: datetime) -> ImageCleanup:
    """Put the files of these images away; they are deleted a week later.

    Raises:
        Invalid: no image is named. Conflict: one of them is needed now.
    """
    if not image_ids:
        raise Invalid("/images", "Name the images to clean away.")
    with transaction.atomic():
        images = list(Image.objects.select_for_update().filter(pk__in=image_ids, cleaned_at=None).order_by("id"))
        kept = {c.image.pk: c.kept_because for c in preview_cleanup(now=now)}
        needed = [f"{i}: {kept[i.pk]}" for i in images if kept.get(i.pk)]
        if needed or len(images) != len(set(image_ids)):
            raise Conflict(f"Look again, nothing was cleaned: {needed[0] if needed else 'an image is gone already'}.")
        freed = freed_by(images)
        cleanup = ImageCleanup.objects.create(at=now, by=actor, freed_bytes=freed)
        cleanup.images.set(images)
        Image.objects.filter(pk__in=[i.pk for i in images]).update(
            cleaned_at=now, status_before=F("status"), status=ImageStatus.WITHDRAWN
        )
        names = ", ".join(str(i) for i in images)
        sentence = f"Cleaned {len(images)} images away, {freed} bytes: {names}"
        record(now=now, actor=actor, kind="cleaning", object_id=cleanup.pk, sentence=sentence[:300])
        notify("images", 0)
    return cleanup


def undo(cleanup: ImageCleanup, *, actor: User | None, now: datetime) -> ImageCleanup:
    """Bring the images of a clean-up back as they were.

    Raises:
        Conflict: it was undone before, or its files are deleted.
    """
    with transaction.atomic():
        cleanup = ImageCleanup.objects.select_for_update().get(pk=cleanup.pk)
        if cleanup.undone_at is not None:
            raise Conflict("This was undone before.")
        if cleanup.purged_at is not None:
            raise Conflict("The files were deleted for good. Import them again.")
        cleanup.images.update(status=F("status_before"), status_before="", cleaned_at=None)
        cleanup.undone_at = now
        cleanup.save(update_fields=["undone_at"])
        count = cleanup.images.count()
        sentence = f"Restored {count} removed images"
        record(now=now, actor=actor, kind="cleaning", object_id=cleanup.pk, sentence=sentence)
        notify("images", 0)
    return cleanup


def purge(*, now: datetime) -> int:
    """Delete the files of clean-ups that can be undone no more; how many files. Safe to repeat at any moment.

    A clean-up is marked first and its files deleted then; those marked of late are looked at again, for a kill between.
    """
    deleted = 0
    for cleanup in ImageCleanup.objects.to_purge(undo_until=now - UNDO_DAYS, marked_since=now - _LOOKED_AT_AGAIN):
        with transaction.atomic():
            locked = ImageCleanup.objects.select_for_update().get(pk=cleanup.pk)
            if locked.undone_at is not None:
                continue
            if locked.purged_at is None:
                locked.purged_at = now
                locked.save(update_fields=["purged_at"])
                ImageModel.objects.filter(image__cleanups=locked).delete()  # the version may be added again
            hashes = set(locked.images.values_list("sha256", flat=True))
            still = set(Image.objects.filter(cleaned_at=None, sha256__in=hashes).values_list("sha256", flat=True))
        for sha256 in hashes - still:
            path = Path(settings.IMAGES_DIR) / sha256
            deleted += path.exists()
            path.unlink(missing_ok=True)
    return deleted
