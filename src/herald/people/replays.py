"""The middleware that carries requests with an `Idempotency-Key` out once, and says so in the OpenAPI document.

It stands before every view that an API token opens and that changes something. Where it does not stand a key is refused
rather than passed over: whoever sends one relies on it.
"""

from collections.abc import Callable
from typing import Any

from django.db import transaction
from django.http import HttpRequest
from django.http.response import HttpResponseBase
from drf_spectacular.openapi import AutoSchema
from rest_framework.permissions import SAFE_METHODS

from herald.http.errors import Invalid, problem_response
from herald.people.idempotency import HEADER, REPLAYED, Claim, read_key
from herald.people.permissions import RolePermission, Tokens, token_opens


class IdempotentRequests:
    """Runs a view within one transaction that also keeps its answer, where the request shows a key. An answer that
    refuses leaves nothing behind, and the key is free again."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self._answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        return self._answer(request)

    def process_view(
        self, request: HttpRequest, view: Callable[..., Any], args: Any, kwargs: Any
    ) -> HttpResponseBase | None:
        """The answer to a request with a key; None for all others."""
        given, call = request.headers.get(HEADER), getattr(view, "cls", None)
        if given is None or call is None or request.method in SAFE_METHODS:
            return None
        if not takes_keys(call):
            words = "What it does is about signing in or about one's own account, where every request counts by itself."
            return problem_response(400, "no-key", f"This call takes no {HEADER}", words)
        try:
            claim = Claim(read_key(given))
        except Invalid as refusal:
            return problem_response(refusal.status, refusal.code, refusal.title, refusal.detail, **refusal.extra)
        request.claim = claim  # type: ignore[attr-defined]
        with transaction.atomic():
            response = view(request, *args, **kwargs)
            if hasattr(response, "render"):
                response.render()
            if response.status_code >= 400:
                transaction.set_rollback(True)
            else:
                claim.keep(response)
        return response  # type: ignore[no-any-return]


def takes_keys(view: Any) -> bool:
    """Whether a view carries requests with a key out once. One that only computes does nothing, however often."""
    permissions = getattr(view, "permission_classes", ())
    return RolePermission in permissions and token_opens(view) is not Tokens.NONE


_SAID = {
    "name": HEADER,
    "in": "header",
    "schema": {"type": "string", "minLength": 16, "maxLength": 200},
    "description": "A key made anew for each act, like a UUID. Sent again with the same key within a day, the request "
    f"is not carried out again: the answer is the one of then, marked `{REPLAYED}: true`.",
}


class CallSchema(AutoSchema):
    """How a call is described: one that changes something says that it takes a key."""

    def get_operation(self, path: str, path_regex: str, path_prefix: str, method: str, registry: Any) -> Any:
        """The call as it stands in the document."""
        call = super().get_operation(path, path_regex, path_prefix, method, registry)
        changes = method not in SAFE_METHODS and not getattr(self.view, "changes_nothing", False)
        if call is not None and changes and takes_keys(self.view):
            call.setdefault("parameters", []).append(_SAID)
        return call
