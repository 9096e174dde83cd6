"""Query parameters: a call takes those that it declares, and no others.

A word that is misspelt must not be passed over: `rul=x` would answer with the whole fleet. What each call declares with
`extend_schema` is both what the OpenAPI document says and what is let through here.
"""

from collections.abc import Callable, Mapping
from functools import cache
from typing import Any

from django.http import HttpRequest, HttpResponseBase
from drf_spectacular.utils import OpenApiParameter

from herald.http.errors import problem_response
from herald_core.text import closest

#: longer numbers are no number that an id or a limit could be
MOST_DIGITS = 18
_TRUTHS = frozenset({"true", "false"})


class DeclaredParameters:
    """Refuses calls with query parameters that are not declared, or whose values do not fit their declared type."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self._answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        return self._answer(request)

    def process_view(
        self, request: HttpRequest, view: Callable[..., Any], args: Any, kwargs: Any
    ) -> HttpResponseBase | None:
        """A refusal, or None to go on."""
        cls = getattr(view, "cls", None)
        if cls is None or not cls.__module__.startswith("herald."):
            return None
        declared = declared_by(cls, request.method or "")
        for name in request.GET:
            for value in request.GET.getlist(name):
                if refusal := _refusal(name, value, declared):
                    errors = [{"pointer": f"/{name[:60]}", "code": "invalid", "message": refusal}]
                    title = "A query parameter does not fit"
                    return problem_response(422, "invalid-parameter", title, refusal, errors=errors)
        return None


@cache
def declared_by(view: type, method: str) -> Mapping[str, OpenApiParameter]:
    """The query parameters that a view's method declares, by name."""
    handler = getattr(view, method.lower(), None)
    schema = getattr(handler, "kwargs", {}).get("schema") if handler else None
    if schema is None:
        return {}
    found = schema()
    found.view, found.method, found.path = view(), method, ""
    found.view.request, found.view.kwargs = None, {}
    return {
        p.name: p
        for p in found.get_override_parameters()
        if isinstance(p, OpenApiParameter) and p.location == OpenApiParameter.QUERY
    }


def _refusal(name: str, value: str, declared: Mapping[str, OpenApiParameter]) -> str:
    parameter = declared.get(name)
    if parameter is None:
        near = closest(name, declared) if len(name) <= 60 else None
        if not declared:
            return f"This call takes no query parameters, and {name[:60]} was given."
        hint = f" Did you mean {near}?" if near else f" It takes {', '.join(sorted(declared))}."
        return f"This call takes no query parameter {name[:60]}.{hint}"
    if value == "" and not parameter.required:
        return ""
    if parameter.enum and value not in map(str, parameter.enum):
        return f"{name} is one of {', '.join(map(str, parameter.enum))}; {value[:60]} is none of them."
    if parameter.type is int and not (value.isascii() and value.isdigit() and len(value) <= MOST_DIGITS):
        return f"{name} is a whole number; {value[:60]} is none."
    if parameter.type is bool and value not in _TRUTHS:
        return f"{name} is true or false; {value[:60]} is neither."
    if parameter.type is float and not _is_number(value):
        return f"{name} is a number; {value[:60]} is none."
    return ""


def _is_number(text: str) -> bool:
    try:
        number = float(text)
    except ValueError:
        return False
    return number == number and abs(number) != float("inf")
