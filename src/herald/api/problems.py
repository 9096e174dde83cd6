"""One exception handler: every error leaves the API as problem details (RFC 9457)."""

from typing import Any

from django.core.exceptions import PermissionDenied
from django.db import IntegrityError
from django.http import Http404
from rest_framework import exceptions
from rest_framework.response import Response
from rest_framework.views import set_rollback

from herald.api.errors import Conflict, DomainError, NotFound

_TITLES = {
    exceptions.NotAuthenticated: "Sign in first",
    exceptions.AuthenticationFailed: "The sign-in does not hold",
    exceptions.PermissionDenied: "Not allowed",
    exceptions.ParseError: "The body cannot be read",
    exceptions.Throttled: "Too many tries",
    exceptions.MethodNotAllowed: "Not possible here",
    exceptions.UnsupportedMediaType: "The body is of another kind",
}
#: What the database refused, in words. Anything not named here is a fault of ours and is raised.
_CONSTRAINTS = {
    "group_name": "Another group has this name already.",
    "one_order_in_hand": "A device has another order in hand already.",
    "schedule_gives_up_after_spread": "It must give up later than the spread.",
}


def exception_handler(error: Exception, context: dict[str, Any]) -> Response | None:
    """Turn an exception into a response, or None to let it rise as the fault that it is."""
    if isinstance(error, Http404):
        error = NotFound("There is no such thing, or it was deleted.")
    if isinstance(error, PermissionDenied):
        error = exceptions.PermissionDenied()
    if isinstance(error, IntegrityError):
        error = _from_constraint(error)
    if isinstance(error, DomainError):
        set_rollback()
        return problem(error.status, error.code, error.title, error.detail, **error.extra)
    if not isinstance(error, exceptions.APIException):
        return None
    set_rollback()
    if isinstance(error, exceptions.ValidationError):
        errors = list(_field_errors(error.detail, ""))
        first = errors[0]
        detail = f"{first['pointer']}: {first['message']}" if first["pointer"] else first["message"]
        return problem(422, "invalid", "Something in the request does not fit", detail, errors=errors)
    refused = isinstance(error, exceptions.NotAuthenticated | exceptions.AuthenticationFailed)
    status = 401 if refused else error.status_code
    title = _TITLES.get(type(error), "Refused")
    response = problem(status, str(error.default_code).replace("_", "-"), title, str(error.detail))
    if isinstance(error, exceptions.Throttled) and error.wait:
        response["Retry-After"] = str(int(error.wait) + 1)
    return response


def problem(status: int, code: str, title: str, detail: str, **extra: Any) -> Response:
    """A response with problem details."""
    body = {"type": f"urn:brisk-herald:problem:{code}", "title": title, "status": status, "detail": detail, **extra}
    return Response(body, status=status, content_type="application/problem+json")


def _from_constraint(error: IntegrityError) -> Exception:
    name = getattr(getattr(error.__cause__, "diag", None), "constraint_name", None) or ""
    for known, message in _CONSTRAINTS.items():
        if known in name:
            return Conflict(message)
    return error


def _field_errors(detail: Any, pointer: str) -> Any:
    """Every error of a nested serializer with the place it is about (RFC 6901)."""
    if isinstance(detail, dict):
        for key, value in detail.items():
            yield from _field_errors(value, pointer if key == "non_field_errors" else f"{pointer}/{key}")
    elif isinstance(detail, list):
        for index, value in enumerate(detail):
            nested = isinstance(value, dict | list)
            yield from _field_errors(value, f"{pointer}/{index}" if nested else pointer)
    else:
        yield {"pointer": pointer, "code": getattr(detail, "code", "invalid"), "message": str(detail)}
