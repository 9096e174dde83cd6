"""What a model can do, changed by the numbers of what that does to commands: a device whose firmware is said to be able
to restart takes part in a command that repeats."""

from collections.abc import Sequence
from datetime import datetime

from django.db import transaction

from herald.commands.models import Schedule
from herald.commands.reach import able_of
from herald.commands.references import use_of
from herald.fleet import capabilities
from herald.fleet.models import DeviceModel
from herald.groups.consequences.acceptance import Agreement, Consequences, UseEffect, require
from herald.people.models import User


def set_capabilities(
    model: DeviceModel,
    drafts: Sequence[capabilities.RangeDraft],
    *,
    agreement: Agreement | None,
    actor: User | None,
    now: datetime,
) -> capabilities.ModelCapabilities:
    """Keep these ranges in place of those that the model had, unless commands would reach other devices than was agreed
    to.

    Raises:
        InvalidFields: a range does not fit.
        NotAgreed, DryRun: as `require` does; nothing was changed then.
    """
    with transaction.atomic():
        concerned = list(Schedule.objects.active())
        before = {s.pk: _able(s, model) for s in concerned}
        done = capabilities.set_capabilities(model, drafts, actor=actor, now=now)
        effects = []
        for schedule in concerned:
            after = _able(schedule, model)
            joins, leaves = len(after - before[schedule.pk]), len(before[schedule.pk] - after)
            if joins or leaves:
                effects.append(UseEffect(use=use_of(schedule), joins=joins, leaves=leaves))
        require(Consequences(uses=effects), agreement)
    return done


def _able(schedule: Schedule, model: DeviceModel) -> set[int]:
    return set(able_of(schedule).filter(model=model).values_list("pk", flat=True))
