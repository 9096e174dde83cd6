"""Who may call the API: everybody looks, and each role changes what is its own to change."""

from typing import TYPE_CHECKING

from rest_framework.exceptions import NotAuthenticated
from rest_framework.permissions import SAFE_METHODS, BasePermission
from rest_framework.request import Request

from herald.people.models import ABILITIES, Ability, User

if TYPE_CHECKING:
    from rest_framework.views import APIView


class RolePermission(BasePermission):
    """Signed in for everything; to change something, with a role that has the ability which the view asks for.

    A view says so with `needs`; without it, it is for operators. One that only computes from a posted body says so
    with `changes_nothing = True`.
    """

    def has_permission(self, request: Request, view: "APIView") -> bool:
        user = request.user
        if not isinstance(user, User) or not user.is_active:
            return False
        if request.method in SAFE_METHODS or getattr(view, "changes_nothing", False):
            return True
        needed = ability_needed(view)
        roles = " or ".join(role.label.lower() for role, has in ABILITIES.items() if needed in has)
        self.message = f"Your role is {user.get_role_display().lower()}; this is for the role {roles}."
        return user.may(needed)


def ability_needed(view: object) -> Ability:
    """What a view asks for of whoever changes something by it."""
    return Ability(getattr(view, "needs", Ability.OPERATE))


def person(request: Request) -> User:
    """Whoever sends the request. Only views that let nobody in who is not signed in may ask.

    Raises:
        NotAuthenticated: nobody is signed in.
    """
    if not isinstance(request.user, User):
        raise NotAuthenticated
    return request.user
