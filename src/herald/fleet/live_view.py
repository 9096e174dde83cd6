"""Live view: a device that calls says all of its facts every few seconds, for some minutes. There is no other way of
looking at a device from here: no remote screen and no shell."""

from datetime import datetime, timedelta

from django.db import transaction

from herald.fleet.models import Admission, Device
from herald.fleet.presence import presence_of
from herald.http.errors import Conflict
from herald.people.models import User
from herald.record.services import record

#: so long a device is live, from the call at which it is told; it is told within so long, or not at all
LIVE_FOR, ASKED_FOR = timedelta(minutes=10), timedelta(hours=1)
#: so soon a live device calls again
CALLS_EVERY_SECONDS = 5
#: each live device calls as often as a hundred others
MOST_LIVE = 20


def start_live_view(device: Device, *, actor: User | None, now: datetime) -> None:
    """Have the device say its facts every few seconds, from its next call on. Asked again while it is live, it is live
    for the whole time once more.

    Raises:
        Conflict: it does not call, or so many devices are live already.
    """
    if device.admission == Admission.RETIRED or device.secret_hash is None:
        raise Conflict(f"{device.name} does not call, so it cannot be watched live.")
    if presence_of(device.last_check_in, device.check_in_interval_seconds, now) not in ("on time", "late"):
        raise Conflict(f"{device.name} has not called for long, so it cannot be watched live.")
    with transaction.atomic():
        others = Device.objects.watched_live(now, ASKED_FOR).exclude(pk=device.pk)
        if others.count() >= MOST_LIVE:
            raise Conflict(f"{MOST_LIVE} devices are watched live already, which is the most. Stop one of them.")
        Device.objects.filter(pk=device.pk).update(live_asked_at=now)
        sentence = f"Watches {device.name} live"
        record(now=now, actor=actor, kind="device", object_id=device.pk, sentence=sentence)


def stop_live_view(device: Device) -> None:
    """Have the device call as usual again; it is told at its next call. Nothing where it is not live."""
    Device.objects.filter(pk=device.pk).update(live_asked_at=None, live_until=None)
