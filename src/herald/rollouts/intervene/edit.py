"""Changing what is still ahead of an open rollout: its hours, limits and caps, and gates that are not met yet."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import datetime, time
from types import SimpleNamespace
from typing import Any

from django.db import transaction

from herald.db.locks import RANKS, take_lock
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.http.dates import check_plannable
from herald.http.errors import Conflict, Invalid
from herald.people.models import User
from herald.rollouts.compose.drafts import check_staging, check_window
from herald.rollouts.intervene.lifecycle import locked, note, order_by_rank
from herald.rollouts.models import OPEN_STATES, Ring, Rollout
from herald_core.rollouts.sentence import DAYS

#: what may be changed of the rollout, in words
_OF_ROLLOUT = {
    "window_start": "window opens",
    "window_end": "window closes",
    "window_days": "on",
    "ends_at": "ends",
    "prefetch": "files fetched ahead",
    "prefetch_start": "files from",
    "prefetch_end": "files until",
    "failure_limit_pct": "failure limit, %",
    "failure_count_limit": "limit of failures",
    "max_concurrent": "at once",
    "max_concurrent_per_site": "at once per site",
    "max_starts_per_hour": "started per hour",
    "spread_minutes": "spread, minutes",
    "freeze_override_reason": "goes on in freezes",
}
#: and of its rings whose gate is not met
_OF_RING = {
    "confirmed_pct": "confirmed, %",
    "soak_minutes": "soak, minutes",
    "max_unreached": "most not tried",
    "min_tried": "tried, at least",
    "needs_approval": "needs an approval",
}
#: not a field of it, but that it goes before all other open rollouts
GOES_FIRST = "goes_first"
_STAGING = ("prefetch", "prefetch_start", "prefetch_end", "window_start")


@dataclass(frozen=True, kw_only=True)
class FieldEdit:
    """One thing that a change ahead does, in words; `ring` is the place of a ring, None for all of it."""

    what: str
    ring: int | None
    before: str
    after: str


def differences(
    rollout: Rollout, changes: Mapping[str, Any], rings: Mapping[int, Mapping[str, Any]], *, now: datetime
) -> list[FieldEdit]:
    """What these changes would do, the rings by their place.

    Raises:
        Invalid: something cannot be changed, or does not fit. Conflict: a ring's gate was met already.
    """
    found = [
        FieldEdit(what=_OF_ROLLOUT[name], ring=None, before=_say(getattr(rollout, name)), after=_say(value))
        for name, value in changes.items()
        if name != GOES_FIRST and _known(name, _OF_ROLLOUT, "/") and getattr(rollout, name) != value
    ]
    if changes.get(GOES_FIRST):
        order = _order()
        if rollout.pk not in order:
            raise Conflict("Only an open rollout has a turn among the others.")
        if (place := order.index(rollout.pk) + 1) > 1:
            words = [f"{n} of {len(order)} open rollouts" for n in (place, 1)]
            found.append(FieldEdit(what="its turn", ring=None, before=words[0], after=words[1]))
    start = changes.get("window_start", rollout.window_start)
    end = changes.get("window_end", rollout.window_end)
    check_window(start, end, max(Delivery.objects.of_rollout(rollout.pk).waiting_minutes(), default=0))
    check_staging(SimpleNamespace(**{n: changes.get(n, getattr(rollout, n)) for n in _STAGING}))
    if changes.get("ends_at", rollout.ends_at) != rollout.ends_at:
        _check_end(rollout, changes["ends_at"], now)
    by_place = {r.position: r for r in rollout.rings.all()}
    for place, fields in rings.items():
        ring = by_place.get(place)
        if ring is None:
            raise Invalid("/rings", f"There is no ring {place}.")
        if ring.gate_met_at is not None:
            raise Conflict(f"The gate after ring {place} is open already; what is behind cannot be changed.")
        found += [
            FieldEdit(what=_OF_RING[name], ring=place, before=_say(getattr(ring, name)), after=_say(value))
            for name, value in fields.items()
            if _known(name, _OF_RING, f"/rings/{place}/") and getattr(ring, name) != value
        ]
    return found


def edit_open_rollout(
    rollout: Rollout,
    changes: Mapping[str, Any],
    rings: Mapping[int, Mapping[str, Any]],
    *,
    actor: User | None,
    now: datetime,
) -> list[FieldEdit]:
    """Change what is ahead of an open rollout; what it changed. Offers that stand are not touched.

    Raises:
        Invalid, Conflict: as in `differences`, or the rollout is not open, or nothing would change.
    """
    with transaction.atomic():
        if changes.get(GOES_FIRST):
            take_lock(RANKS)  # before the rollout's own, as whoever changes the order takes them
        rollout = locked(rollout, *OPEN_STATES, doing="changed")
        told = differences(rollout, changes, rings, now=now)
        if not told:
            raise Conflict("Nothing would change.")
        if changes.get("freeze_override_reason", rollout.freeze_override_reason) != rollout.freeze_override_reason:
            rollout.override_approved_by, rollout.overridden_by = None, None
        for name, value in changes.items():
            if name != GOES_FIRST:
                setattr(rollout, name, value)
        rollout.overridden_by = (actor if rollout.freeze_override_reason else None) or rollout.overridden_by
        if rollout.freeze_override_reason and rollout.overridden_by is None:
            raise Invalid("/freeze_override_reason", "A freeze is overridden by a person, who answers for it.")
        rollout.save()
        if changes.get(GOES_FIRST):
            order_by_rank([rollout.pk, *(pk for pk in _order() if pk != rollout.pk)], actor=actor, now=now)
        if "ends_at" in changes:
            deliveries.set_expiry(Delivery.objects.of_rollout(rollout.pk), until=rollout.expires_at)
        for place, fields in rings.items():
            Ring.objects.filter(rollout=rollout, position=place).update(**fields)
        words = "; ".join(f"{_place(d)}{d.what} {d.before} → {d.after}" for d in told)
        note(rollout, f"Changed what is ahead: {words}"[:300], actor=actor, now=now)
    return told


def _order() -> list[int]:
    """The open rollouts, the one that goes first first."""
    return list(Rollout.objects.moving().values_list("pk", flat=True))


def _check_end(rollout: Rollout, ends_at: datetime | None, now: datetime) -> None:
    """Refuse an end that is over, or would be without one."""
    check_plannable(ends_at, "/ends_at")
    until = ends_at or rollout.whole_time_from(rollout.begins_at)
    if until <= max(now, rollout.begins_at):
        when = f"{until:%-d %b %Y, %H:%M} UTC"
        raise Invalid("/ends_at", f"It would end on {when}, which is over, so nobody would get it any more.")


def _known(name: str, known: Collection[str], where: str) -> bool:
    if name not in known:
        raise Invalid(f"{where}{name}", f"This cannot be changed once launched; what can is {', '.join(known)}.")
    return True


def _place(difference: FieldEdit) -> str:
    return f"ring {difference.ring}: " if difference.ring else ""


def _say(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, datetime):
        return f"{value:%-d %b %Y, %H:%M} UTC"
    if isinstance(value, list):
        return ", ".join(DAYS[d] for d in value) or "every day"
    if isinstance(value, time):
        return f"{value:%H:%M}"
    if isinstance(value, float):
        return f"{value:g}"
    return "none" if value in (None, "") else str(value)
