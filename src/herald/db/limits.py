"""Questions and changes of people who are limited to some devices: the database itself holds them to these.

While a connection is limited it is of the role `ROLE`, for which every table has a policy (`herald.limits.policies`):
rows outside the person's limits are not there, whichever code asks. A table without a policy cannot be read at all.
"""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, NamedTuple

import structlog
from django.core import signals
from django.db import connections
from django.db.backends.signals import connection_created
from django.db.utils import DatabaseError, InterfaceError

ROLE = "herald_limited"
#: policies make statements dear in the planner's eyes, and it would take longer to compile them than to run them
_HELD = f"SET ROLE {ROLE}; SET jit = off"
_KEPT = "held_to_limits_of"
log = structlog.get_logger()


class _Held(NamedTuple):
    """To whose limits a connection is held: a person's, and a token's of theirs."""

    person: int
    token: int | None


def limited_to() -> int | None:
    """The person to whose limits this thread's connection is held; None where it is held to none."""
    held = _held()
    return held.person if held is not None else None


def begin_limits(person_id: int, token_id: int | None = None) -> None:
    """Hold this connection to a person's limits, and to those of a token of theirs, until `end_limits` or the end of
    the request."""
    _hold_to(_Held(person_id, token_id))


def end_limits(**_: Any) -> None:
    """Hold this connection to nothing any more. One that cannot be told so is closed, and the next begins anew."""
    if limited_to() is not None:
        try:
            _hold_to(None)
        except (DatabaseError, InterfaceError):
            log.warning("limits_not_lifted", exc_info=True)


@contextmanager
def limits_of(person_id: int | None, token_id: int | None = None) -> Iterator[None]:
    """Hold this connection to the limits of a person, and of a token of theirs, for a while; None is nobody's."""
    before, wanted = _held(), _Held(person_id, token_id) if person_id is not None else None
    if before == wanted:
        yield
        return
    _hold_to(wanted)
    try:
        yield
    finally:
        _hold_to(before)


def beyond_limits() -> Any:
    """Let what the system does by itself, in the middle of a limited person's request, see everything. Nothing that is
    found so may come into the answer."""
    return limits_of(None)


def sees(person_id: int, kind: str, object_id: int) -> bool:
    """Whether a limited person sees a rollout or a schedule."""
    with limits_of(person_id), connections["default"].cursor() as cursor:
        cursor.execute("SELECT herald_sees(%s, %s)", [kind, object_id])
        return bool(cursor.fetchone()[0])


def _held() -> _Held | None:
    held: _Held | None = getattr(connections["default"], _KEPT, None)
    return held


def _hold_to(held: _Held | None) -> None:
    connection = connections["default"]
    was = _held()
    # first what is to hold, so that a connection that is lost here is made anew with it
    setattr(connection, _KEPT, held)
    try:
        with connection.cursor() as cursor:
            if was is not None:
                cursor.execute("RESET ROLE; RESET jit")
            _tell(cursor, held)
    except (DatabaseError, InterfaceError):
        connection.close()  # nobody must go on with limits that are another's, or none
        raise


def _tell(cursor: Any, held: _Held | None) -> None:
    cursor.execute("SELECT herald_begin_limits(%s, %s)", held or [None, None])
    if held is not None:
        cursor.execute(_HELD)


def _begin_again(*, connection: Any, **_: Any) -> None:
    """A connection that was lost and is made anew in the middle of a request is held to the same limits."""
    held = getattr(connection, _KEPT, None)
    if held is not None:
        with connection.cursor() as cursor:
            _tell(cursor, held)


# whatever a request left behind, the next one begins with nothing
signals.request_started.connect(end_limits, dispatch_uid="herald.limits.started")
signals.request_finished.connect(end_limits, dispatch_uid="herald.limits.finished")
connection_created.connect(_begin_again, dispatch_uid="herald.limits.connection")
