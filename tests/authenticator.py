"""A device that holds passkeys, as a browser asks it: enough of WebAuthn to answer rightly, and to answer wrongly."""

import hashlib
import json
import os
from base64 import urlsafe_b64encode
from typing import Any

import cbor2
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec

PRESENT, VERIFIED, HAS_KEY = 0x01, 0x04, 0x40


def encoded(data: bytes) -> str:
    return urlsafe_b64encode(data).rstrip(b"=").decode()


class Authenticator:
    """Holds one passkey, counts its uses, and looks at who holds it."""

    def __init__(self, origin: str = "http://localhost") -> None:
        self.origin = origin
        self.flags = PRESENT | VERIFIED
        self.uses = 0
        self.credential = os.urandom(16)
        self._key = ec.generate_private_key(ec.SECP256R1())

    def make(self, options: dict[str, Any]) -> dict[str, Any]:
        """What `navigator.credentials.create` answers."""
        numbers = self._key.public_key().public_numbers()
        x, y = (n.to_bytes(32, "big") for n in (numbers.x, numbers.y))
        key = cbor2.dumps({1: 2, 3: -7, -1: 1, -2: x, -3: y})
        held = bytes(16) + len(self.credential).to_bytes(2, "big") + self.credential + key
        about = self._about(options["rp"]["id"], HAS_KEY) + held
        attestation = cbor2.dumps({"fmt": "none", "attStmt": {}, "authData": about})
        said = self._said("webauthn.create", options)
        return self._credential({"clientDataJSON": encoded(said), "attestationObject": encoded(attestation)})

    def sign(self, options: dict[str, Any]) -> dict[str, Any]:
        """What `navigator.credentials.get` answers."""
        self.uses += 1
        about, said = self._about(options["rpId"]), self._said("webauthn.get", options)
        signature = self._key.sign(about + hashlib.sha256(said).digest(), ec.ECDSA(hashes.SHA256()))
        return self._credential(
            {
                "clientDataJSON": encoded(said),
                "authenticatorData": encoded(about),
                "signature": encoded(signature),
            }
        )

    def _about(self, name: str, more: int = 0) -> bytes:
        return hashlib.sha256(name.encode()).digest() + bytes([self.flags | more]) + self.uses.to_bytes(4, "big")

    def _said(self, what: str, options: dict[str, Any]) -> bytes:
        said = {"type": what, "challenge": options["challenge"], "origin": self.origin, "crossOrigin": False}
        return json.dumps(said).encode()

    def _credential(self, response: dict[str, str]) -> dict[str, Any]:
        name = encoded(self.credential)
        return {"id": name, "rawId": name, "type": "public-key", "response": response, "clientExtensionResults": {}}
