"""What can go wrong in the domain. One handler turns these into problem details (RFC 9457)."""

from collections.abc import Sequence
from typing import Any

from django.http import HttpResponse, JsonResponse

from herald_core.rules import RuleProblem


def problem_body(status: int, code: str, title: str, detail: str, **extra: Any) -> dict[str, Any]:
    """The members of problem details (RFC 9457)."""
    return {"type": f"urn:brisk-herald:problem:{code}", "title": title, "status": status, "detail": detail, **extra}


def problem_response(status: int, code: str, title: str, detail: str, **extra: Any) -> JsonResponse:
    """Problem details as an answer of Django's own, where no view of REST framework gives it."""
    body = problem_body(status, code, title, detail, **extra)
    return JsonResponse(body, status=status, content_type="application/problem+json")


class DomainError(Exception):
    """Something in the domain refused the request."""

    code = "refused"
    title = "Refused"
    status = 400

    def __init__(self, detail: str, **extra: Any) -> None:
        super().__init__(detail)
        self.detail = detail
        self.extra = extra


class DryRun(Exception):
    """Only what a change would do was asked for: it is rolled back, and this is the answer."""

    def __init__(self, told: dict[str, Any]) -> None:
        super().__init__("nothing was changed")
        self.told = told


class Replay(Exception):
    """The request was carried out before; this was the answer."""

    def __init__(self, answer: HttpResponse) -> None:
        super().__init__("it was carried out before")
        self.answer = answer


class Invalid(DomainError):
    """A field of the request does not hold what it must; `errors` says which and why."""

    code = "invalid"
    title = "Something in the request does not fit"
    status = 422

    def __init__(self, pointer: str, message: str, **extra: Any) -> None:
        super().__init__(message, errors=[{"pointer": pointer, "code": "invalid", "message": message}], **extra)


class InvalidFields(Invalid):
    """Several fields of the request do not hold what they must."""

    def __init__(self, problems: Sequence[tuple[str, str]]) -> None:
        self.problems = list(problems)
        errors = [{"pointer": pointer, "code": "invalid", "message": message} for pointer, message in problems]
        DomainError.__init__(self, " ".join(message for _, message in problems[:3]), errors=errors)


class InvalidRule(DomainError):
    """The rule cannot be understood."""

    code = "invalid-rule"
    title = "The rule cannot be understood"
    status = 422

    def __init__(self, problems: tuple[RuleProblem, ...]) -> None:
        errors = [
            {
                "pointer": "/rule",
                "line": p.line,
                "column": p.column,
                "length": p.length,
                "message": p.message,
                "expected": list(p.expected),
                "closest": p.closest,
            }
            for p in problems
        ]
        first = problems[0]
        super().__init__(f"Line {first.line}, column {first.column}: {first.message}", errors=errors)


class Conflict(DomainError):
    """The thing is not in a state in which this can be done."""

    code = "conflict"
    title = "Not possible in the current state"
    status = 409


class NobodyThere(DomainError):
    """The audience is empty; an empty audience is nobody."""

    code = "nobody"
    title = "Nobody to do this to"
    status = 422


class CountMismatch(DomainError):
    """The number of devices typed is not the number that the launch would reach."""

    code = "count-mismatch"
    title = "The number of devices is another one"
    status = 422


class NotFound(DomainError):
    """There is no such thing."""

    code = "not-found"
    title = "Not found"
    status = 404
