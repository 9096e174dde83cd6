"""Errors of the database that pass: nothing is wrong with what was asked, and asking again may well succeed."""

#: SQLSTATE of a serialisation failure, a deadlock, and a lock that was not had in time
_PASSING = frozenset({"40001", "40P01", "55P03"})
#: SQLSTATE of a statement that was ended as it took too long, or as nobody waits for it
CANCELLED = "57014"
#: the role of the connection may not do this, or a policy forbids it
FORBIDDEN = "42501"


def sqlstate(error: Exception) -> str:
    """The SQLSTATE that PostgreSQL gave for an error of Django's; empty for any other error."""
    return getattr(error.__cause__, "sqlstate", None) or ""


def is_passing(error: Exception) -> bool:
    """Whether two transactions were in each other's way, and one was ended."""
    return sqlstate(error) in _PASSING
