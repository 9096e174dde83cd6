"""What no field of any request may hold, refused in one place before a view reads it."""

from typing import IO, Any

from rest_framework import exceptions
from rest_framework.parsers import JSONParser

from herald.http.errors import Invalid
from herald_core.text import is_storable

#: how deep a body may be nested; the deepest that is asked for is five
MAX_DEPTH = 40
#: whole numbers that a column holds
MAX_NUMBER = 2**63
MAX_POINTER = 200
_TOO_DEEP = f"The body is nested too deeply; at most {MAX_DEPTH} levels are taken."


class BoundedJSONParser(JSONParser):
    """JSON with bounds: no deep nesting, no characters that the database cannot hold, no endless numbers."""

    def parse(self, stream: IO[bytes], media_type: str | None = None, parser_context: Any = None) -> Any:
        try:
            body = super().parse(stream, media_type, parser_context)
        except RecursionError:
            raise exceptions.ParseError(_TOO_DEEP) from None
        check_value(body)
        return body


def check_value(value: Any) -> None:
    """Refuse what cannot be stored, wherever in a body it is.

    Raises:
        Invalid: with the place.
    """
    waiting = [("", value, 0)]
    while waiting:
        pointer, one, depth = waiting.pop()
        if depth > MAX_DEPTH:
            raise Invalid(pointer, _TOO_DEEP)
        if isinstance(one, dict):
            for key, inner in one.items():
                if not is_storable(key):
                    raise Invalid(pointer, "The name of a field holds a character that cannot be stored.")
                waiting.append((f"{pointer}/{key}"[:MAX_POINTER], inner, depth + 1))
        elif isinstance(one, list):
            waiting.extend((f"{pointer}/{n}"[:MAX_POINTER], inner, depth + 1) for n, inner in enumerate(one))
        elif isinstance(one, str):
            if not is_storable(one):
                raise Invalid(pointer, "The text holds a character that cannot be stored.")
        elif isinstance(one, int) and not -MAX_NUMBER <= one < MAX_NUMBER:
            raise Invalid(pointer, "The number is too large.")
