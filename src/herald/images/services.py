"""Verbs on images: add, approve, withdraw."""

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import IntegrityError, transaction

from herald.fleet.models import Device, DeviceModel
from herald.http.errors import Conflict, Invalid, InvalidFields
from herald.images.approval import approve_on_upload
from herald.images.models import Image, ImageModel, ImageStatus, Upload
from herald.images.paths import upgrade_paths
from herald.images.references import ImageUse, image_uses, stop_sending
from herald.images.signing import sign
from herald.images.uploads import path_of, sha256_of
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.versions import is_version, version_key


def add_image(
    *,
    content: bytes,
    models: Sequence[DeviceModel],
    family: str,
    version: str,
    **fields: Any,
) -> Image:
    """Store a file under its hash and describe it; the image is new, not yet approved."""
    sha256 = hashlib.sha256(content).hexdigest()
    part = Path(settings.IMAGES_DIR) / f"{sha256}.part"
    part.parent.mkdir(parents=True, exist_ok=True)
    part.write_bytes(content)
    try:
        return _describe(part, sha256, models, family, version, fields)
    finally:
        part.unlink(missing_ok=True)


def add_uploaded(
    upload: Upload, *, models: Sequence[DeviceModel], version: str, actor: User | None, now: datetime, **fields: Any
) -> Image:
    """Make an image of a file that has come in whole. What is refused keeps the upload, to be described anew.

    Raises:
        Conflict: not all of it is there, or there is an image of this version for a model.
        Invalid, InvalidFields: a field does not fit.
    """
    families = {m.family for m in models}
    if len(families) != 1:
        raise Invalid("/models", "An image is for one model, or several of one family.")
    versions = {"version": version, "min_version": fields.get("min_version"), "max_version": fields.get("max_version")}
    wrong = [(f"/{k}", f"{v[:64]} is no version.") for k, v in versions.items() if v and not is_version(v)]
    if wrong:
        raise InvalidFields(wrong)
    with transaction.atomic():
        upload = Upload.objects.select_for_update().get(pk=upload.pk)
        if upload.received_bytes != upload.size_bytes:
            raise Conflict(
                f"Of {upload.size_bytes} bytes {upload.received_bytes} have come.", received=upload.received_bytes
            )
        try:
            with transaction.atomic():
                by = {"added_by": actor, "added_at": now}
                image = _describe(path_of(upload), sha256_of(upload), models, families.pop(), version, {**fields, **by})
        except IntegrityError as error:
            if "image_once_per_model_and_version" not in str(error):
                raise
            raise Conflict(f"There is an image of version {version} for one of these models already.") from error
        upload.delete()
        approve_on_upload(image, models, now=now)
        sentence = f"Added {image}, {image.size_bytes} bytes, from {upload.file_name}"
        record(now=now, actor=actor, kind="image", object_id=image.pk, sentence=sentence[:300])
        notify("images", image.pk)
    return image


def _describe(
    part: Path, sha256: str, models: Sequence[DeviceModel], family: str, version: str, fields: dict[str, Any]
) -> Image:
    """The image's rows, and its file under its hash: whole or not at all, and once where two images share it."""
    key = version_key(version)
    with transaction.atomic():
        image = Image.objects.create(
            family=family, version=version, version_key=key, size_bytes=part.stat().st_size, sha256=sha256, **fields
        )
        ImageModel.objects.bulk_create([ImageModel(image=image, model=m, version_key=key) for m in models])
        part.rename(Path(settings.IMAGES_DIR) / sha256)
    return image


def approve(image: Image, *, actor: User | None, now: datetime) -> Image:
    """Sign the image, so that it may be sent.

    Raises:
        Conflict: it is not new, or the same person added it.
    """
    with transaction.atomic():
        image = Image.objects.select_for_update().get(pk=image.pk)
        if image.status != ImageStatus.NEW:
            raise Conflict(f"{image} is {image.get_status_display().lower()} already.")
        if actor is not None and image.added_by_id == actor.pk:
            raise Conflict(f"You added {image}; somebody else must approve it.")
        image.signature, image.status, image.approved_by = sign(image), ImageStatus.APPROVED, actor
        image.save(update_fields=["signature", "status", "approved_by"])
        record(now=now, actor=actor, kind="image", object_id=image.pk, sentence=f"Approved {image}")
        notify("images", image.pk)
    return image


@dataclass(frozen=True, kw_only=True)
class Withdrawal:
    """What withdrawing an image would change: what sends it stops; who runs it keeps it; `cut_off` devices lose their
    way to the newest version."""

    uses: list[ImageUse]
    running: int
    cut_off: int


def preview_withdrawal(image: Image, *, now: datetime) -> Withdrawal:
    """What withdrawing the image would change."""
    cut_off = sum(
        point.cuts_off
        for model in image.device_models.all()
        for point in upgrade_paths(model, now.date()).versions
        if point.image_id == image.pk
    )
    running = Device.objects.filter(model__images=image, firmware_key=image.version_key).count()
    return Withdrawal(uses=image_uses(image.pk), running=running, cut_off=cut_off)


def withdraw(image: Image, reason: str, *, actor: User | None, now: datetime) -> Image:
    """Let the image be sent no more; what sends it now stops by itself.

    Raises:
        Invalid: no reason is given. Conflict: it was withdrawn before.
    """
    if not reason.strip():
        raise Invalid("/reason", "Say why, for those who look for this version later.")
    with transaction.atomic():
        image = Image.objects.select_for_update().get(pk=image.pk)
        if image.status == ImageStatus.WITHDRAWN:
            raise Conflict(f"{image} is withdrawn already.")
        image.status, image.reason = ImageStatus.WITHDRAWN, reason.strip()[:300]
        image.save(update_fields=["status", "reason"])
        sentence = f"Withdrew {image}: {image.reason}"[:300]
        record(now=now, actor=actor, kind="image", object_id=image.pk, sentence=sentence)
        stop_sending(image.pk, now)
        notify("images", image.pk)
    return image
