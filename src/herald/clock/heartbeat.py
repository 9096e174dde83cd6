"""Signs of life: which parts of the system work, and since when without a gap.

What the server itself missed while it was away must not be held against devices, so patience with them counts from
when every part was back.
"""

from datetime import UTC, datetime, timedelta

from django.db.models import Case, DateTimeField, F, Value, When

from herald.clock.models import Heartbeat

TURN, FOLLOW, COUNT, GATEWAY, SERVER = "turn", "follow", "count", "gateway", "server"
#: the pause between beats, of real time
BEAT_SECONDS = 4.0
#: a part that has not beaten for so long (of real time) is away
AWAY = timedelta(seconds=15)


def beat(name: str, *, now: datetime, seconds: float = 0.0, real_now: datetime | None = None) -> None:
    """Write a sign of life. After a gap longer than `AWAY` the part counts as back from `now` on."""
    real = real_now or datetime.now(UTC)
    back = Case(When(beat_at__lt=real - AWAY, then=Value(now, DateTimeField())), default=F("back_at"))
    found = Heartbeat.objects.filter(name=name)
    if not found.update(beat_at=real, seconds=seconds, back_at=back):
        Heartbeat.objects.bulk_create(
            [Heartbeat(name=name, beat_at=real, seconds=seconds, back_at=now)], ignore_conflicts=True
        )


def mark_back(name: str, *, now: datetime) -> None:
    """Count a part as back from `now` on, as nobody reached it until then although it beat."""
    Heartbeat.objects.filter(name=name).update(back_at=now)


def heartbeats() -> dict[str, Heartbeat]:
    """The last sign of life of each part that ever gave one."""
    return {h.name: h for h in Heartbeat.objects.all()}


def is_away(heartbeat: Heartbeat | None, real_now: datetime) -> bool:
    """Whether a part is away: it beat once, and has not for long."""
    return heartbeat is not None and heartbeat.beat_at < real_now - AWAY


def whole_since(real_now: datetime) -> datetime | None:
    """Since when (the installation's time) devices could call and were heard; None while they cannot.

    A part that never gave a sign of life is not looked at: the beginning of time.
    """
    known = heartbeats()
    if is_away(known.get(GATEWAY), real_now):
        return None
    moments = [h.back_at for name, h in known.items() if name in (TURN, GATEWAY)]
    return max(moments, default=datetime.min.replace(tzinfo=UTC))
