"""Answers that need not be sent again: a script that shows the `ETag` of what it has is told that it is current
(RFC 9110, 13). Only to tokens: a browser would keep every answer on the disk, also of whoever has signed out."""

from typing import Any

from django.http import HttpRequest
from django.http.response import HttpResponseBase
from django.middleware.http import ConditionalGetMiddleware


class ConditionalReads(ConditionalGetMiddleware):
    """Gives answers to tokens an `ETag`, of their bytes, and answers 304 where the request shows the same one."""

    def process_response(self, request: HttpRequest, response: HttpResponseBase) -> Any:
        if "Authorization" not in request.headers or response.status_code != 200:
            return response
        return super().process_response(request, response)  # which leaves streams alone
