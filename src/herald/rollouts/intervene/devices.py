"""Stepping in for single devices of a rollout: ahead of its ring, once more, or not at all."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from django.db import transaction

from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.services import device_ids
from herald.http.errors import Conflict, Invalid, NobodyThere
from herald.people.models import User
from herald.rollouts.intervene.lifecycle import locked, note
from herald.rollouts.models import OPEN_STATES, Rollout


def expedite(rollout: Rollout, names: Sequence[str], *, actor: User | None, now: datetime) -> int:
    """Let waiting devices go at once: before their ring opens and without the pause of a retry, but in their window,
    in no freeze and under the caps. How many.

    Raises:
        Conflict: the rollout is not open. Invalid: a device is not known. NobodyThere: none of them waits.
    """
    with transaction.atomic():
        rollout = locked(rollout, *OPEN_STATES, doing="expedited")
        done = deliveries.expedite(_named(rollout, names).filter(hold_reason=""), now=now)
        _some(done, "None of these devices waits for this rollout, or all of them are held.")
        note(rollout, f"Goes ahead with {_words(names)}"[:300], actor=actor, now=now)
    return done


def retry(rollout: Rollout, names: Sequence[str], *, actor: User | None, now: datetime) -> int:
    """Give devices that failed or expired another attempt; how many.

    Raises:
        Conflict: the rollout is not open. Invalid: a device is not known. NobodyThere: none of them failed.
    """
    with transaction.atomic():
        rollout = locked(rollout, *OPEN_STATES, doing="tried again")
        wanted = _named(rollout, names)
        done = deliveries.retry(wanted, now=now, cause="tried again by hand")
        # whoever tries again after the end wants it tried again
        until = rollout.end_for(now)
        deliveries.extend_expiry(wanted, until=until if until > now else rollout.whole_time_from(now))
        _some(done, "None of these devices failed or expired in this rollout.")
        note(rollout, f"Tries again: {_words(names)}"[:300], actor=actor, now=now)
    return done


def skip(rollout: Rollout, names: Sequence[str], *, reason: str, actor: User | None, now: datetime) -> int:
    """Take devices that have not begun to install out of the rollout; how many.

    Raises:
        Conflict: the rollout is not open. Invalid: no reason, or a device is not known.
        NobodyThere: all of them are done, or beyond recall.
    """
    if not reason.strip():
        raise Invalid("/reason", "Say why, for those who miss the devices.")
    with transaction.atomic():
        rollout = locked(rollout, *OPEN_STATES, doing="changed")
        done = deliveries.withdraw(_named(rollout, names), now=now, cause=f"skipped: {reason.strip()}"[:120])
        _some(done, "None of these devices can be taken back: they are done, or are installing and will finish.")
        note(rollout, f"Skips {_words(names)} ({reason.strip()})"[:300], actor=actor, now=now)
    return done


def _named(rollout: Rollout, names: Sequence[str]) -> Any:
    if not names:
        raise Invalid("/devices", "Name the devices.")
    return Delivery.objects.of_rollout(rollout.pk).filter(device_id__any=device_ids(list(names), "/devices"))


def _some(done: int, otherwise: str) -> None:
    if not done:
        raise NobodyThere(otherwise)


def _words(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{len(names)} devices, {', '.join(names[:5])}"


def check_open(rollout: Rollout) -> Rollout:
    """The rollout, locked, if it was launched and has not ended.

    Raises:
        Conflict: it has not, or it has.
    """
    found: Rollout = Rollout.objects.select_for_update().get(pk=rollout.pk)
    if found.launched_at is None or found.ended_at is not None:
        raise Conflict(f"This rollout is {found.get_state_display().lower()}.")
    return found
