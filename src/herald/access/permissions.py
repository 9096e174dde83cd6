"""Who may call the API: readers may look, engineers and approvers may act."""

from typing import TYPE_CHECKING

from rest_framework.permissions import SAFE_METHODS, BasePermission
from rest_framework.request import Request

from herald.access.models import Role, User

if TYPE_CHECKING:
    from rest_framework.views import APIView


class ReadersReadEngineersWrite(BasePermission):
    """Signed in for everything; a reader only where nothing is changed.

    A view that only computes from a posted body says so with `changes_nothing = True`.
    """

    message = "Your account may look but not change anything; ask an engineer."

    def has_permission(self, request: Request, view: "APIView") -> bool:
        user = request.user
        if not isinstance(user, User) or not user.is_active:
            return False
        return request.method in SAFE_METHODS or user.role != Role.READER or getattr(view, "changes_nothing", False)
