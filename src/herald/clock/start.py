"""When the demo's time begins, and how fast it goes."""

from datetime import datetime, timedelta

from herald.clock.models import TimeBase
from herald.time import clock


def rebase(*, speed: float, real_now: datetime) -> None:
    """Start the demo's time: it goes on from where it was, or from now, whichever is later."""
    row = TimeBase.objects.first()
    start = max(real_now, row.last_seen + timedelta(seconds=1)) if row else real_now
    TimeBase.objects.update_or_create(
        id=1,
        defaults={"real_origin": real_now, "herald_origin": start, "speed": speed, "last_seen": start},
    )
    clock.forget()
