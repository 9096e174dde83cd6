"""Which schedules use a group."""

from herald.commands.models import Schedule
from herald.groups.references import Reference, tells_uses


@tells_uses
def uses_of_group(group_id: int) -> list[Reference]:
    """The open ones that name the group, and which of them exclude it."""
    found = Schedule.objects.using_group(group_id).select_related("template").prefetch_related("include")
    return [use_of(s, leaves_out=all(g.pk != group_id for g in s.include.all())) for s in found]


def use_of(schedule: Schedule, *, leaves_out: bool = False) -> Reference:
    """A schedule, as what reaches devices; or as what does not reach those of a group that it leaves out."""
    sentence = f"Schedule {schedule.pk}, {schedule.name or schedule.template.name.lower()}"
    sentence += ", which leaves this group out" if leaves_out else ""
    return Reference(kind="schedule", id=schedule.pk, sentence=sentence, follows=True)
