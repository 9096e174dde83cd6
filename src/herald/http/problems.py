"""One exception handler: every error leaves the API as problem details (RFC 9457)."""

import sys
from typing import Any

import structlog
from django.core.exceptions import PermissionDenied
from django.db import IntegrityError, ProgrammingError
from django.db.utils import InterfaceError, OperationalError
from django.http import Http404, HttpRequest, HttpResponse
from rest_framework import exceptions
from rest_framework.response import Response
from rest_framework.views import set_rollback

from herald.db.limits import limited_to
from herald.http.agreement import CONSEQUENCES
from herald.http.errors import Conflict, DomainError, DryRun, NotFound, Replay, problem_body, problem_response
from herald.passing import CANCELLED, FORBIDDEN, is_passing, sqlstate

log = structlog.get_logger()
#: when to ask again after an answer of 503
RETRY_AFTER_SECONDS = 2
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
    "commandtemplate_name": "Another command has this name already.",
    "one_order_in_hand": "A device already has another order.",
    "schedule_gives_up_after_spread": "It must give up later than the spread.",
}


def exception_handler(error: Exception, context: dict[str, Any]) -> HttpResponse | None:
    """Turn an exception into a response, or None to let it rise as the fault that it is."""
    if isinstance(error, Http404):
        error = NotFound("There is no such thing, or it was deleted.")
    if isinstance(error, PermissionDenied):
        error = exceptions.PermissionDenied()
    if isinstance(error, IntegrityError):
        error = _from_constraint(error)
    if isinstance(error, ProgrammingError) and sqlstate(error) == FORBIDDEN and limited_to() is not None:
        # a view should have said so in its own words: the database is the last to refuse
        log.error("refused_by_policy", exc_info=error)
        error = exceptions.PermissionDenied("This is outside of what you are limited to. Nothing was changed.")
    if isinstance(error, OperationalError | InterfaceError):
        set_rollback()
        response = problem(503, *_unavailable(error))
        response["Retry-After"] = str(RETRY_AFTER_SECONDS)
        return response
    if isinstance(error, Replay):
        return error.answer
    if isinstance(error, DryRun):
        set_rollback()
        return Response(error.told, content_type=CONSEQUENCES)
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
    if wait := getattr(error, "wait", None):  # of a throttled one
        response["Retry-After"] = str(int(wait) + 1)
    return response


def server_error(request: HttpRequest) -> HttpResponse:
    """The answer where nothing else has answered: a database that is away is 503, anything else a fault of ours."""
    error = sys.exc_info()[1]
    if isinstance(error, OperationalError | InterfaceError):
        status, words = 503, _unavailable(error)
    else:
        status, words = 500, ("internal", "Something failed here", "The reason is in the server's log.")
    response = problem_response(status, *words)
    if status == 503:
        response["Retry-After"] = str(RETRY_AFTER_SECONDS)
    return response


def csrf_failure(request: HttpRequest, reason: str = "") -> HttpResponse:
    """The answer to a page's request without its CSRF token, where it is no call of the API."""
    return problem_response(403, "permission-denied", "Refused", f"CSRF: {reason}")


def _unavailable(error: Exception) -> tuple[str, str, str]:
    """Code, title and detail of an answer that may be asked for again in a moment."""
    if is_passing(error) or sqlstate(error) == CANCELLED:
        return "busy", "Too much at once", "Others are changing the same things. Nothing was changed; try again."
    return "unavailable", "The database does not answer", "Nothing was changed. Try again in a moment."


def problem(status: int, code: str, title: str, detail: str, **extra: Any) -> Response:
    """A response with problem details."""
    body = problem_body(status, code, title, detail, **extra)
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
