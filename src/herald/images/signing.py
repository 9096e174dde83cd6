"""Signatures: JWS (RFC 7515) with EdDSA (RFC 8037) over images, over leave to downgrade, and over new keys."""

import base64
import hashlib
import json
import os
from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

import jwt
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from django.conf import settings

from herald.images.models import Image, SigningKey


def ensure_key(*, now: datetime) -> str:
    """Make the signing key where there is none yet, and publish its public half; its id."""
    if not Path(settings.SIGNING_KEY_FILE).exists():
        put_key_in_place(make_key())
    return publish_key(private_key(), now=now)


def make_key() -> Ed25519PrivateKey:
    """A new private key, not kept anywhere yet."""
    return Ed25519PrivateKey.generate()


def put_key_in_place(key: Ed25519PrivateKey) -> None:
    """Make this the key that signs: the file is there whole or not at all, and only its owner reads it."""
    path = Path(settings.SIGNING_KEY_FILE)
    path.parent.mkdir(parents=True, exist_ok=True)
    pem = key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    part = path.with_suffix(".new")
    with os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
        file.write(pem)
        file.flush()
        os.fsync(file.fileno())
    part.replace(path)


def publish_key(key: Ed25519PrivateKey, *, now: datetime, endorsement: str = "") -> str:
    """Publish the public half of a key; its id."""
    jwk = _public_jwk(key)
    fields = {"public_jwk": jwk, "created_at": now, "endorsement": endorsement}
    SigningKey.objects.get_or_create(kid=jwk["kid"], defaults=fields)
    return jwk["kid"]


def published_keys() -> list[dict[str, Any]]:
    """The public keys by which devices verify images, the latest first. `endorsement` is the JWS of the key by the one
    before it: a device that trusts that one may trust this one too."""
    keys = SigningKey.objects.filter(revoked_at=None).order_by("-created_at")
    return [{**k.public_jwk, **({"endorsement": k.endorsement} if k.endorsement else {})} for k in keys]


def endorse(new: Ed25519PrivateKey) -> str:
    """The compact JWS of a new public key, by the key that signs now; empty where there is none yet."""
    return _jws(private_key(), _public_jwk(new)) if Path(settings.SIGNING_KEY_FILE).exists() else ""


def sign(image: Image) -> str:
    """The compact JWS of what an image is, with the key that signs now."""
    return sign_with(private_key(), image)


def sign_with(key: Ed25519PrivateKey, image: Image) -> str:
    """The compact JWS of what an image is: its version, the models and hardware revisions that it fits (none are all),
    size and hash."""
    return _jws(key, _content(image))


def _content(image: Image) -> dict[str, Any]:
    return {
        "version": image.version,
        "models": sorted({n for m in image.device_models.all() for n in (m.name, *m.former_names)}),
        "hardware_revisions": sorted(image.hardware_revisions),
        "size": image.size_bytes,
        "sha256": image.sha256,
    }


def permit_downgrade(rollout_id: int, version: str, *, not_after: datetime) -> str:
    """The compact JWS by which a device may go down to a version in a rollout, until a time."""
    content = {"rollout": rollout_id, "version": version, "not_after": not_after.isoformat(timespec="seconds")}
    return _jws(private_key(), content)


def sign_outdated() -> int:
    """Sign approved images anew whose signature is over something else than it must be by now; how many."""
    outdated = [
        image
        for image in Image.objects.approved()
        if json.loads(jwt.api_jws.decode(image.signature, options={"verify_signature": False})) != _content(image)
    ]
    for image in outdated:
        image.signature = sign(image)
        image.save(update_fields=["signature"])
    return len(outdated)


def _jws(key: Ed25519PrivateKey, content: Mapping[str, Any]) -> str:
    data = json.dumps(content, sort_keys=True).encode()
    return jwt.api_jws.encode(data, key, algorithm="EdDSA", headers={"kid": _public_jwk(key)["kid"]})


def private_key() -> Ed25519PrivateKey:
    """The key that signs now, from its file."""
    key = serialization.load_pem_private_key(Path(settings.SIGNING_KEY_FILE).read_bytes(), password=None)
    if not isinstance(key, Ed25519PrivateKey):
        raise TypeError(f"{settings.SIGNING_KEY_FILE} holds no Ed25519 key")
    return key


def _public_jwk(key: Ed25519PrivateKey) -> dict[str, str]:
    raw = key.public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)
    x = base64.urlsafe_b64encode(raw).rstrip(b"=").decode()
    thumbprint = hashlib.sha256(json.dumps({"crv": "Ed25519", "kty": "OKP", "x": x}, separators=(",", ":")).encode())
    kid = base64.urlsafe_b64encode(thumbprint.digest()).rstrip(b"=").decode()  # RFC 7638
    return {"kty": "OKP", "crv": "Ed25519", "x": x, "kid": kid, "use": "sig", "alg": "EdDSA"}
