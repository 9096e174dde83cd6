"""What no query string may hold, refused before any view reads it."""

from collections.abc import Callable

from django.http import HttpRequest, HttpResponseBase, JsonResponse


class WithoutNul:
    """Refuses addresses with a NUL character, which the database cannot hold, as a problem (RFC 9457)."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self._answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        if "\x00" not in request.path and "%00" not in request.META.get("QUERY_STRING", ""):
            return self._answer(request)
        body = {
            "type": "urn:brisk-herald:problem:invalid",
            "title": "Something in the request does not fit",
            "status": 422,
            "detail": "The address holds a NUL character; leave it out.",
        }
        return JsonResponse(body, status=422, content_type="application/problem+json")
