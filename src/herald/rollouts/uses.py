"""Which rollouts use a group."""

from herald.groups.uses import Use, tells_uses
from herald.rollouts.models import Rollout


@tells_uses
def uses_of_group(group_id: int) -> list[Use]:
    """The open ones that name the group."""
    return [
        Use(kind="rollout", id=r.pk, sentence=f"Rollout {r.pk} of {r.image} ({r.get_state_display().lower()})")
        for r in Rollout.objects.using_group(group_id).select_related("image")
    ]
