"""How images for a model are released: approved by a second person, or as they arrive; and the keys that sign them."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import jwt
from django.db import transaction

from herald.fleet.models import DeviceModel
from herald.http.errors import Conflict
from herald.images.models import AutoApproval, Image, ImageStatus, SigningKey
from herald.images.signing import endorse, make_key, publish_key, put_key_in_place, sign, sign_with
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record


def set_release(model: DeviceModel, *, on_arrival: bool, actor: User | None, now: datetime) -> None:
    """Let images for a model be approved as they arrive, or by a second person again.

    Raises:
        Conflict: it is so already.
    """
    with transaction.atomic():
        model = DeviceModel.objects.select_for_update().get(pk=model.pk)
        if AutoApproval.objects.filter(model=model).exists() == on_arrival:
            raise Conflict(f"Images for {model.name} are released {'on arrival' if on_arrival else 'by hand'} already.")
        if on_arrival:
            AutoApproval.objects.create(model=model, set_at=now, set_by=actor)
            sentence = f"Images for {model.name} are approved as they arrive from now on"
        else:
            AutoApproval.objects.filter(model=model).delete()
            sentence = f"Images for {model.name} are approved by a second person from now on"
        record(now=now, actor=actor, kind="model", object_id=model.pk, sentence=sentence)
        notify("images", 0)


def approve_on_upload(image: Image, models: Sequence[DeviceModel], *, now: datetime) -> bool:
    """Approve an image that has just come in where all its models are so set; whether it was."""
    set_so = AutoApproval.objects.filter(model__in=models).count()
    if set_so < len(models):
        return False
    image.signature, image.status = sign(image), ImageStatus.APPROVED
    image.save(update_fields=["signature", "status"])
    sentence = f"Approved {image} on arrival, as its models are set to"
    record(now=now, actor=None, kind="image", object_id=image.pk, sentence=sentence)
    return True


@dataclass(frozen=True, kw_only=True)
class Rotation:
    """A change of keys: the id of the new one, and how many approved images were signed anew."""

    kid: str
    signed: int


def rotate_key(*, actor: User | None, now: datetime) -> Rotation:
    """Sign with a new key from now on, and sign all approved images anew.

    The old public key stays published, so that devices with an active order can verify it. The new private key is put
    in place last: whatever is killed in between, what is signed can be verified with a published key.
    """
    key = make_key()
    with transaction.atomic():
        kid = publish_key(key, now=now, endorsement=endorse(key))
        SigningKey.objects.exclude(pk=kid).filter(retired_at=None).update(retired_at=now)
        images = list(Image.objects.approved().select_for_update())
        for image in images:
            image.signature = sign_with(key, image)
        Image.objects.bulk_update(images, ["signature"], batch_size=500)
        sentence = f"Changed the signing key; {len(images)} approved images were signed anew"
        record(now=now, actor=actor, kind="key", object_id=0, sentence=sentence)
        notify("images", 0)
    put_key_in_place(key)
    return Rotation(kid=kid, signed=len(images))


def signed_by(kid: str) -> list[Image]:
    """The approved images whose signature was made with a key."""
    return [i for i in Image.objects.approved() if jwt.get_unverified_header(i.signature).get("kid") == kid]


def revoke_key(kid: str, *, actor: User | None, now: datetime) -> SigningKey:
    """Publish an old key no more: devices refuse what it signed.

    Raises:
        Conflict: it is the one that signs, it is revoked already, or images that may be sent are signed with it.
    """
    with transaction.atomic():
        key = SigningKey.objects.select_for_update().get(pk=kid)
        if key.retired_at is None:
            raise Conflict("This key signs images now. Change the key first, then take the old one back.")
        if key.revoked_at is not None:
            raise Conflict("This key is revoked already.")
        if images := signed_by(kid):
            names = ", ".join(map(str, images[:5]))
            message = (
                f"It signs {len(images)} images: {names}. Devices would refuse them; sign them with the new key first."
            )
            raise Conflict(message, images=[i.pk for i in images])
        key.revoked_at = now
        key.save(update_fields=["revoked_at"])
        record(now=now, actor=actor, kind="key", object_id=0, sentence=f"Took back the signing key {kid[:12]}…")
        notify("images", 0)
    return key
