"""Which rollouts use a group."""

from herald.groups.uses import Use, tells_uses
from herald.rollouts.models import RingPlan, Rollout
from herald.rollouts.sentence import short_words


@tells_uses
def uses_of_group(group_id: int) -> list[Use]:
    """The open ones that name the group; a standing one reaches whoever joins. And ring plans that name it."""
    plans = RingPlan.objects.filter(archived=False, versions__rings__contains=[{"group_id": group_id}]).distinct()
    return [
        *(Use(kind="plan", id=p.pk, sentence=f"The ring plan “{p.name}”") for p in plans),
        *(
            Use(
                kind="rollout",
                id=r.pk,
                sentence=f"Rollout {r.pk} of {short_words(r)} ({r.get_state_display().lower()})",
                follows=r.standing and r.launched_at is not None,
            )
            for r in Rollout.objects.using_group(group_id)
        ),
    ]
