"""Telling browsers what changed: PostgreSQL NOTIFY, sent when the transaction commits."""

import json

from django.db import connection

CHANNEL = "herald"


def notify(topic: str, object_id: int | None = None) -> None:
    """Say that `topic` (and which one) has changed. Equal messages of a transaction are sent once."""
    payload = json.dumps({"topic": topic, "id": object_id})
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [CHANNEL, payload])
