"""Secrets and enrolment codes as they are stored."""

import hashlib


def hash_secret(secret: str) -> str:
    """A device's secret, or an enrolment code, as it is stored. Both are random, so a plain hash is enough."""
    return hashlib.sha256(secret.encode("utf-8", "surrogateescape")).hexdigest()
