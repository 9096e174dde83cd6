"""Which freezes, and calendars that freezes are read from, use a group."""

from herald.calendar.models import CalendarSource, Freeze
from herald.groups.references import Reference, tells_uses
from herald.time import clock


@tells_uses
def uses_of_group(group_id: int) -> list[Reference]:
    """Those that are not over and name the group; who joins it is held too."""
    freezes = [
        Reference(kind="freeze", id=f.pk, sentence=f"The freeze “{f.name}”", follows=True)
        for f in Freeze.objects.naming_group(group_id, clock.now())
    ]
    calendars = [
        Reference(kind="calendar", id=s.pk, sentence=f"Freezes from the calendar “{s.name}”")
        for s in CalendarSource.objects.naming_group(group_id)
    ]
    return [*freezes, *calendars]
