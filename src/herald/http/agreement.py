"""How somebody who changes who is affected says what they agreed to: two headers, the same for every call."""

from rest_framework.request import Request

#: holds the digest of the consequences that were shown
AGREED = "Herald-Agreed"
#: asks for the consequences only
DRY_RUN = "Herald-Dry-Run"
#: the type of an answer that shows consequences, which is another than what the call itself answers with
CONSEQUENCES = "application/vnd.brisk-herald.consequences+json"
LONGEST = 20_000


def agreed_digest(request: Request) -> str:
    """The digest that a request agrees to; empty for none."""
    return str(request.headers.get(AGREED, ""))[:LONGEST]


def is_dry_run(request: Request) -> bool:
    """Whether a request asks for its consequences only."""
    return str(request.headers.get(DRY_RUN, "")).lower() in ("1", "true", "yes")
