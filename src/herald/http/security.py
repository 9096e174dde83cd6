"""What browsers may load and run with our pages."""

from collections.abc import Callable

from django.http import HttpRequest, HttpResponseBase

#: Everything comes from here. Only styles may stand within a page: the editor of rules, dialogs and notices write their
#: own as they appear, and without the editor's the browser turns the spaces that one types into others.
POLICY = "; ".join(
    (
        "default-src 'self'",
        "script-src 'self'",
        "style-src 'self' 'unsafe-inline'",
        "img-src 'self' data:",
        "font-src 'self' data:",
        "connect-src 'self'",
        "object-src 'none'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
    )
)
#: the page that shows the API brings scripts of its own within the page
_API_PAGE = "/api/v1/docs"


class ContentSecurityPolicy:
    """Sends the policy with every answer."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self._answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        response = self._answer(request)
        policy = POLICY
        if request.path == _API_PAGE:
            policy = policy.replace("script-src 'self'", "script-src 'self' 'unsafe-inline'")
        response.headers.setdefault("Content-Security-Policy", policy)
        return response
