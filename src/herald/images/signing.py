"""Signatures of images: JWS (RFC 7515) with EdDSA (RFC 8037) over version, size and SHA-256."""

import base64
import hashlib
import json
import os
from datetime import datetime
from pathlib import Path

import jwt
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from django.conf import settings

from herald.images.models import Image, SigningKey


def ensure_key(*, now: datetime) -> str:
    """Make the signing key where there is none yet, and publish its public half; its id."""
    if not Path(settings.SIGNING_KEY_FILE).exists():
        put_key_in_place(make_key())
    return publish_key(_private_key(), now=now)


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


def publish_key(key: Ed25519PrivateKey, *, now: datetime) -> str:
    """Publish the public half of a key; its id."""
    jwk = _public_jwk(key)
    SigningKey.objects.get_or_create(kid=jwk["kid"], defaults={"public_jwk": jwk, "created_at": now})
    return jwk["kid"]


def published_keys() -> list[dict[str, str]]:
    """The public keys by which devices verify images, the latest first."""
    keys = SigningKey.objects.filter(revoked_at=None).order_by("-created_at")
    return list(keys.values_list("public_jwk", flat=True))


def sign(image: Image) -> str:
    """The compact JWS of the image's version, size and hash, with the key that signs now."""
    return sign_with(_private_key(), image)


def sign_with(key: Ed25519PrivateKey, image: Image) -> str:
    """The compact JWS of the image's version, size and hash."""
    payload = {"version": image.version, "size": image.size_bytes, "sha256": image.sha256}
    data = json.dumps(payload, sort_keys=True).encode()
    return jwt.api_jws.encode(data, key, algorithm="EdDSA", headers={"kid": _public_jwk(key)["kid"]})


def _private_key() -> Ed25519PrivateKey:
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
