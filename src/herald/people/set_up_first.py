"""Sessions that open only what setting up a second factor takes: they began by a password alone, where more is wanted.

The mark is in the session, which every request reads anyway.
"""

from django.http import HttpRequest

from herald.people.models import User, WantedFactor

_MARK = "sets_up_first"


def is_wanted_of(user: User) -> bool:
    """Whether the role of a person wants more than a password."""
    return WantedFactor.objects.filter(role=user.role).exists()


def mark(request: HttpRequest, user: User, *, is_strong: bool) -> None:
    """Have a session that has just begun open no more than setting up a second factor, where that is wanted."""
    if not is_strong and is_wanted_of(user):
        request.session[_MARK] = True
    else:
        request.session.pop(_MARK, None)


def is_marked(request: HttpRequest) -> bool:
    """Whether this session opens only setting up a second factor."""
    session = getattr(request, "session", None)
    return session is not None and bool(session.get(_MARK))


def unmark(request: HttpRequest) -> None:
    """Open this session whole: a second factor was set up in it."""
    request.session.pop(_MARK, None)
