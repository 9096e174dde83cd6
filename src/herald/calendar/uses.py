"""Which freezes use a group."""

from herald.calendar.models import Freeze
from herald.clock.source import clock
from herald.groups.uses import Use, tells_uses


@tells_uses
def uses_of_group(group_id: int) -> list[Use]:
    """Those that are not over and name the group; who joins it is held too."""
    return [
        Use(kind="freeze", id=f.pk, sentence=f"The freeze “{f.name}”", follows=True)
        for f in Freeze.objects.naming_group(group_id, clock.now())
    ]
