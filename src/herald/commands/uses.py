"""Which schedules use a group."""

from herald.commands.models import Schedule
from herald.groups.uses import Use, tells_uses


@tells_uses
def uses_of_group(group_id: int) -> list[Use]:
    """The open ones that name the group."""
    return [use_of(s) for s in Schedule.objects.using_group(group_id)]


def use_of(schedule: Schedule) -> Use:
    """A schedule, as what reaches devices."""
    sentence = f"Schedule {schedule.pk}, {schedule.get_recipe_display().lower()}"
    return Use(kind="schedule", id=schedule.pk, sentence=sentence, follows=True)
