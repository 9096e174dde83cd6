"""Verbs on images."""

import hashlib
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import transaction

from herald.access.models import User
from herald.fleet.models import DeviceModel
from herald.images.models import Image, ImageModel, ImageStatus
from herald.images.signing import sign
from herald.record.services import record
from herald_core.versions import version_key


def add_image(*, content: bytes, models: Sequence[DeviceModel], family: str, version: str, **fields: Any) -> Image:
    """Store a file under its hash and describe it; the image is new, not yet approved."""
    sha256 = hashlib.sha256(content).hexdigest()
    path = Path(settings.IMAGES_DIR) / sha256
    path.parent.mkdir(parents=True, exist_ok=True)
    if not path.exists():
        part = path.with_suffix(".part")
        part.write_bytes(content)
        part.rename(path)  # whole or not at all
    key = version_key(version)
    with transaction.atomic():
        image = Image.objects.create(
            family=family, version=version, version_key=key, size_bytes=len(content), sha256=sha256, **fields
        )
        ImageModel.objects.bulk_create([ImageModel(image=image, model=m, version_key=key) for m in models])
    return image


def approve(image: Image, *, actor: User | None, now: datetime) -> Image:
    """Sign the image, so that it may be sent."""
    image.signature, image.status = sign(image), ImageStatus.APPROVED
    image.save(update_fields=["signature", "status"])
    record(now=now, actor=actor, kind="image", object_id=image.pk, sentence=f"Approved {image}")
    return image
