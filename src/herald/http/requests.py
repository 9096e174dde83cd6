"""What every request leaves behind: an id that its log lines and its answer share, a count, and how long it took.

A caller may send an id of its own (`X-Request-ID`); the answer carries it, or one that was made here.
"""

import re
import time
import uuid
from collections.abc import Callable

import structlog
from django.http import HttpRequest
from django.http.response import HttpResponseBase
from prometheus_client import Counter, Histogram

HEADER = "X-Request-ID"
_METHODS = ("GET", "HEAD", "OPTIONS", "POST", "PUT", "PATCH", "DELETE")
_WELL_FORMED = re.compile(r"[\w.:-]{1,80}", re.ASCII)
#: a request that takes longer is worth a line in the log
SLOW_SECONDS = 2.0
REQUESTS = Counter("herald_requests", "Requests that the web server answered.", ["method", "route", "status"])
SECONDS = Histogram(
    "herald_request_seconds",
    "How long the web server took to answer.",
    ["method", "route"],
    buckets=(0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 10.0, 60.0),
)
log = structlog.get_logger()


class RequestTrace:
    """Middleware, the outermost: gives each request its id, and counts it."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        given = request.headers.get(HEADER, "")
        request_id = given if _WELL_FORMED.fullmatch(given) else uuid.uuid4().hex
        started = time.monotonic()
        with structlog.contextvars.bound_contextvars(request=request_id):
            answer = self._get_response(request)
            self._note(request, answer, time.monotonic() - started)
        answer[HEADER] = request_id
        return answer

    def _note(self, request: HttpRequest, answer: HttpResponseBase, seconds: float) -> None:
        # by route and not by address: addresses are as many as callers make up, and hold secrets
        found = request.resolver_match
        route = found.route if found else ""
        if not route.startswith("api/"):
            return
        method = request.method if request.method in _METHODS else "other"
        REQUESTS.labels(method, route, str(answer.status_code)).inc()
        SECONDS.labels(method, route).observe(seconds)
        if answer.status_code >= 500 or seconds > SLOW_SECONDS:
            log.warning("request", method=method, route=route, status=answer.status_code, seconds=round(seconds, 3))
