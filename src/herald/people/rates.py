"""How often a token may call: so often in a minute, that one script which went wrong does not keep everybody waiting.

Answers say how much is left (`RateLimit`, `RateLimit-Policy`, after the IETF's draft of these headers), so a script can
slow down before it is told to. Each server process counts what it answers itself. People in a browser are not counted.
"""

import math
from collections.abc import Callable
from typing import Any

from django.conf import settings
from django.http import HttpRequest
from django.http.response import HttpResponseBase
from rest_framework.request import Request
from rest_framework.throttling import SimpleRateThrottle

from herald.people.models import User

SECONDS = 60


class TokenThrottle(SimpleRateThrottle):
    """Counts the calls of each token, and refuses those beyond what an installation allows."""

    cache_format = "calls-of-token-%s"

    def get_rate(self) -> str | None:
        """Calls a minute, or none where they are not counted."""
        return f"{settings.TOKEN_CALLS}/min" if settings.TOKEN_CALLS else None

    def get_cache_key(self, request: Request, view: Any) -> str | None:
        """The token's; None where nothing is counted."""
        user = request.user
        return self.cache_format % user.by_token.pk if isinstance(user, User) and user.by_token else None

    def allow_request(self, request: Request, view: Any) -> bool:
        """Whether the call may go on."""
        allowed = super().allow_request(request, view)
        if getattr(self, "key", None):
            left = max(0, settings.TOKEN_CALLS - len(self.history))
            ends = math.ceil(self.history[-1] + SECONDS - self.now) if self.history else SECONDS
            request._request.rate = (left, max(1, ends))  # type: ignore[attr-defined]
        return bool(allowed)


class RateHeaders:
    """Middleware: says in each answer to a token how many calls are left, and when one more is."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        answer = self._get_response(request)
        if (rate := getattr(request, "rate", None)) is not None:
            answer["RateLimit-Policy"] = f'"token";q={settings.TOKEN_CALLS};w={SECONDS}'
            answer["RateLimit"] = f'"token";r={rate[0]};t={rate[1]}'
        return answer
