"""Putting a rollout back: a draft that gives each device it changed the version that the device had before."""

import random
from datetime import datetime

from django.db import transaction

from herald.http.errors import Conflict, NobodyThere
from herald.people.models import User
from herald.rollouts.compose.drafts import RingDraft, write_rings
from herald.rollouts.intervene.lifecycle import note
from herald.rollouts.models import Rollout
from herald.rollouts.preflight.plan import audience_of
from herald_core.rings.assignment import RingKind

#: who puts something back has usually seen why already: few devices first, and no long soak
_RINGS = (
    RingDraft(name="First few", kind=RingKind.NUMBER, number=12, soak_minutes=30),
    RingDraft(name="Everyone left", kind=RingKind.REST, soak_minutes=0),
)
_SAME = (
    "window_start",
    "window_end",
    "window_days",
    "prefetch",
    "prefetch_start",
    "prefetch_end",
    "max_concurrent",
    "max_concurrent_per_site",
    "max_starts_per_hour",
    "spread_minutes",
    "max_attempts",
)


def roll_back(rollout: Rollout, *, actor: User | None, now: datetime) -> Rollout:
    """Write down, not launch, the rollout that undoes this one; or the draft that was written down for it before.

    Raises:
        Conflict: it was not launched. NobodyThere: it has changed no device.
    """
    with transaction.atomic():
        rollout = Rollout.objects.select_for_update().get(pk=rollout.pk)
        if rollout.launched_at is None:
            raise Conflict("This rollout was not launched, so there is nothing to roll back.")
        written: Rollout | None = rollout.rolled_back_by.filter(state="draft").first()
        if written is not None:
            return written
        draft = Rollout(
            rolls_back=rollout,
            downgrades=True,
            seed=random.SystemRandom().randrange(2**62),
            created_at=now,
            created_by=actor,
            expires_after_hours=rollout.expires_after_hours,
            failure_limit_pct=rollout.failure_limit_pct,
            **{name: getattr(rollout, name) for name in _SAME},
        )
        count = audience_of(draft, now).count()
        if count == 0:
            raise NobodyThere("This rollout has changed no device yet, so there is nothing to roll back.")
        draft.save()
        write_rings(draft, _RINGS)
        note(rollout, f"Rollout {draft.pk} was written down to put {count} devices back", actor=actor, now=now)
    return draft
