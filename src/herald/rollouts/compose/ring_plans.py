"""Ring plans: rings kept under a name. Each change makes a new version; rollouts keep the rings they took."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from django.db import transaction

from herald.http.errors import Conflict, Invalid
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald.rollouts.models import RingPlan, RingPlanVersion


def save_ring_plan(
    name: str, rings: Sequence[Mapping[str, Any]], *, note: str | None = None, actor: User | None, now: datetime
) -> RingPlanVersion:
    """Keep rings under a name: a new plan, or the next version of the plan of that name. Rings that are the same as
    the newest version's make none. A note that is None stays.

    Raises:
        Invalid: the name is empty.
    """
    if not name.strip():
        raise Invalid("/name", "A plan has a name.")
    with transaction.atomic():
        plan, made = RingPlan.objects.select_for_update().get_or_create(name=name.strip())
        newest = plan.versions.first()
        if (note is not None and plan.note != note) or plan.archived:
            plan.note, plan.archived = plan.note if note is None else note, False
            plan.save(update_fields=["note", "archived"])
        if newest is not None and newest.rings == [dict(r) for r in rings]:
            return newest
        number = newest.number + 1 if newest else 1
        version = RingPlanVersion.objects.create(
            plan=plan, number=number, rings=[dict(r) for r in rings], kept_at=now, kept_by=actor
        )
        sentence = (
            f"Kept the ring plan {plan.name}" if made else f"Changed the ring plan {plan.name} to version {number}"
        )
        record(now=now, actor=actor, kind="ring plan", object_id=plan.pk, sentence=sentence)
        notify("plans", plan.pk)
    return version


def delete_ring_plan(plan: RingPlan, *, actor: User | None, now: datetime) -> None:
    """Put a plan away: it is offered no more; rollouts that took its rings keep them.

    Raises:
        Conflict: it is away already.
    """
    with transaction.atomic():
        plan = RingPlan.objects.select_for_update().get(pk=plan.pk)
        if plan.archived:
            raise Conflict(f"The ring plan {plan.name} was put away already.")
        plan.archived = True
        plan.save(update_fields=["archived"])
        record(
            now=now, actor=actor, kind="ring plan", object_id=plan.pk, sentence=f"Put away the ring plan {plan.name}"
        )
        notify("plans", plan.pk)
