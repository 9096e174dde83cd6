"""Which schedules use a group."""

from herald.commands.models import Schedule
from herald.groups.uses import Use, tells_uses


@tells_uses
def uses_of_group(group_id: int) -> list[Use]:
    """The open ones that name the group."""
    return [
        Use(kind="schedule", id=s.pk, sentence=f"Schedule {s.pk}, {s.get_recipe_display().lower()}", follows=True)
        for s in Schedule.objects.using_group(group_id)
    ]
