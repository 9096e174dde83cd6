"""An administrator stands in for an approver whom nobody can reach (break-glass): for an hour, for a reason, and every
administrator is told. What one asked for oneself, one cannot approve in this way either.
"""

from collections.abc import Callable
from datetime import datetime, timedelta

from django.db import IntegrityError, transaction

from herald.http.errors import Conflict
from herald.people.accounts import note
from herald.people.models import Role, StandIn, User
from herald.record.models import RecordEntry

LASTS = timedelta(hours=1)
#: told of each that begins or is over, within the transaction in which it does; by rooms above this one
on_change: list[Callable[[StandIn, bool, datetime], None]] = []


def stand_in(person: User, *, reason: str, now: datetime) -> StandIn:
    """Let an administrator approve for an hour.

    Raises:
        Conflict: they are no administrator, or stand in already.
    """
    if person.role != Role.ADMINISTRATOR:
        raise Conflict("Only administrators stand in for an approver.")
    end_expired(now=now)
    try:
        with transaction.atomic():
            begun = StandIn.objects.create(person=person, reason=reason, began_at=now, ends_at=now + LASTS)
            note(f"Stands in for an approver until {begun.ends_at:%H:%M} UTC: {reason}", person, person.pk, now)
            _tell(begun, is_over=False, now=now)
    except IntegrityError as error:
        raise Conflict("You stand in for an approver already.") from error
    return begun


def end(person: User, *, now: datetime) -> None:
    """No longer stand in; nothing happens where one does not."""
    with transaction.atomic():
        for one in StandIn.objects.select_for_update().filter(person=person, ended_at=None):
            _end(one, now)


def end_expired(*, now: datetime) -> None:
    """End those whose hour is over, or who are administrators no more."""
    due = StandIn.objects.filter(ended_at=None)
    for pk in [s.pk for s in due.select_related("person") if _is_over(s, now)]:
        with transaction.atomic():
            for one in due.select_for_update().filter(pk=pk):
                _end(one, now)


def _is_over(one: StandIn, now: datetime) -> bool:
    return one.ends_at <= now or not one.person.is_active or one.person.role != Role.ADMINISTRATOR


def _end(one: StandIn, now: datetime) -> None:
    one.ended_at = min(now, one.ends_at)
    one.save(update_fields=["ended_at"])
    acts = RecordEntry.objects.filter(actor=one.person, at__gte=one.began_at, at__lte=one.ended_at).count() - 1
    did = "nothing" if acts <= 0 else "one act" if acts == 1 else f"{acts} acts"
    note(f"Stands in for an approver no longer; on record from that time: {did}", one.person, one.person_id, now)
    _tell(one, is_over=True, now=now)


def _tell(one: StandIn, *, is_over: bool, now: datetime) -> None:
    for tell in on_change:
        tell(one, is_over, now)
