"""What a request has agreed to."""

from rest_framework.request import Request

from herald.groups.consequences.acceptance import Agreement
from herald.http.agreement import agreed_digest, is_dry_run


def agreement_of(request: Request) -> Agreement:
    """What whoever sends the request agreed to: over the API, nothing unless they say so."""
    return Agreement(digest=agreed_digest(request), dry_run=is_dry_run(request))
