"""Who may call the API: everybody looks, and each role changes what is its own to change."""

from enum import StrEnum
from typing import TYPE_CHECKING, Final

from rest_framework.exceptions import NotAuthenticated
from rest_framework.permissions import SAFE_METHODS, BasePermission
from rest_framework.request import Request

from herald.db.limits import begin_limits
from herald.people.idempotency import Claim
from herald.people.models import ABILITIES, Ability, User
from herald.people.set_up_first import is_marked

if TYPE_CHECKING:
    from rest_framework.views import APIView


#: what a view may do for limited people (`within_limits`): all that their role may, or only answer. One that says
#: nothing is closed to them
WHOLE: Final = frozenset({"GET", "HEAD", "OPTIONS", "POST", "PUT", "PATCH", "DELETE"})
READING: Final = frozenset(SAFE_METHODS)
CLOSED: Final = frozenset[str]()


class Tokens(StrEnum):
    """Which API tokens open a view (`by_token`)."""

    ANY = "any"
    #: those that are not limited themselves: what it is about is somebody's own
    UNLIMITED = "unlimited"
    #: whoever finds a script's token must not make another of it, nor change how its owner signs in
    NONE = "none"


class RolePermission(BasePermission):
    """Signed in for everything; to change something, with a role that has the ability which the view asks for.

    A view says so with `needs`; without it, it is for operators. One that only computes from a posted body says so
    with `changes_nothing = True`.

    Whoever is limited to some devices reaches only views that say so, and from then on the database shows them nothing
    else (`herald.db.limits`).
    """

    def has_permission(self, request: Request, view: "APIView") -> bool:
        user = request.user
        if not isinstance(user, User) or not user.is_active:
            return False
        token = user.by_token
        if token is None and is_marked(request._request) and not getattr(view, "sets_up_second_factor", False):
            self.message = "A password alone is not enough for your role. Set up a passkey, or an app that makes codes."
            return False
        if token is not None:
            opens = token_opens(view)
            if opens is Tokens.NONE:
                self.message = "A token does not open this: sign in with your password."
                return False
            if opens is Tokens.UNLIMITED and token.is_limited:
                self.message = "This token is limited to some devices, and this is about its owner."
                return False
        if not (request.method in SAFE_METHODS or getattr(view, "changes_nothing", False)):
            needed = ability_needed(view)
            if token is not None and token.reads_only:
                self.message = "This token only reads."
                return False
            if not user.may(needed):
                roles = " or ".join(role.label.lower() for role, has in ABILITIES.items() if needed in has)
                self.message = f"Your role is {user.get_role_display().lower()}; this is for the role {roles}."
                return False
        if user.sees_a_part:
            if request.method not in open_within_limits(view):
                who = "You are" if user.is_limited else "This token is"
                self.message = f"{who} limited to some devices, and this is about the whole fleet."
                return False
            begin_limits(user.pk, token.pk if token is not None and token.is_limited else None)
        claim = getattr(request, "claim", None)
        if isinstance(claim, Claim) and not getattr(view, "changes_nothing", False):
            claim.begin(request, user)
        return True


def ability_needed(view: object) -> Ability:
    """What a view asks for of whoever changes something by it."""
    return Ability(getattr(view, "needs", Ability.OPERATE))


def open_within_limits(view: object) -> frozenset[str]:
    """The methods of a view that are open to people who are limited to some devices."""
    return getattr(view, "within_limits", CLOSED)


def token_opens(view: object) -> Tokens:
    """Which tokens open a view."""
    return Tokens(getattr(view, "by_token", Tokens.ANY))


def person(request: Request) -> User:
    """Whoever sends the request. Only views that let nobody in who is not signed in may ask.

    Raises:
        NotAuthenticated: nobody is signed in.
    """
    if not isinstance(request.user, User):
        raise NotAuthenticated
    return request.user
