"""What no address may hold, refused before any view reads it."""

from collections.abc import Callable
from urllib.parse import unquote

from django.http import HttpRequest, HttpResponseBase

from herald.http.errors import problem_response
from herald_core.text import is_storable

#: an address is read by people and logs; a rule of ten thousand characters fits
MAX_QUERY = 65_536


class BoundedAddress:
    """Refuses addresses that are too long or hold what the database cannot, as a problem (RFC 9457)."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self._answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        query = request.META.get("QUERY_STRING", "")
        if len(query) > MAX_QUERY:
            return _refuse(414, "too-long", f"The address is too long; at most {MAX_QUERY} characters are taken.")
        if not is_storable(request.path) or not is_storable(unquote(query, errors="surrogateescape")):
            return _refuse(422, "invalid", "The address holds a character that cannot be stored; leave it out.")
        return self._answer(request)


def _refuse(status: int, code: str, detail: str) -> HttpResponseBase:
    return problem_response(status, code, "Something in the request does not fit", detail)
