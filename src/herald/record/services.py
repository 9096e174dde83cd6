"""Writing the record."""

from datetime import datetime
from typing import Any

from herald.people.models import User
from herald.record.models import RecordEntry


def record(
    *,
    now: datetime,
    actor: User | None,
    kind: str,
    object_id: int,
    sentence: str,
    before: dict[str, Any] | None = None,
    after: dict[str, Any] | None = None,
) -> None:
    """Add one sentence to the record, in the transaction of the act itself."""
    RecordEntry.objects.create(
        at=now,
        actor=actor,
        token=actor.by_token if actor is not None else None,
        kind=kind,
        object_id=object_id,
        sentence=sentence,
        before=before,
        after=after,
    )
