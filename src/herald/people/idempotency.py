"""Requests that are carried out once, however often they are sent (`Idempotency-Key`).

A script whose connection broke does not know whether its request was carried out. Sent again with the same key it is
answered with the answer of then. What was done and the answer to it are committed together, so there is no moment in
which a process could die and leave one without the other.

Answers may hold what is told only once, like the letters of an enrolment code. So each is encrypted with a key made
from the caller's own, of which only a digest is kept: the database does not show it.
"""

import base64
import hashlib
import hmac
import json
import re
import zlib
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from cryptography.fernet import Fernet
from django.conf import settings
from django.db import connection
from django.http import HttpResponse
from rest_framework.request import Request

from herald.http.agreement import AGREED, is_dry_run
from herald.http.errors import Conflict, DomainError, Invalid, Replay
from herald.people.models import KeptAnswer, User

HEADER = "Idempotency-Key"
#: the mark of an answer that was given before
REPLAYED = "Herald-Replayed"
#: so long, of real time, a key is known
KEPT_FOR = timedelta(hours=24)
#: an answer that is longer, compressed, is not kept
MOST_BYTES = 256 * 1024
#: shorter ones are hardly made anew for each act
_WELL_FORMED = re.compile(r"[\x21\x23-\x7e]{16,200}")
_WELL_FORMED_IS = "It is 16 to 200 letters, digits and signs without spaces, made anew for each act, like a UUID."


class StillWorking(Conflict):
    """The same request is being carried out at this moment."""

    code = "still-working"
    title = "The same request is being carried out"


class AnotherRequest(DomainError):
    """The key was used for another request."""

    code = "key-of-another-request"
    title = "The key belongs to another request"
    status = 422


def read_key(header: str) -> str:
    """The key in a header, which may stand in quotes as the draft standard writes it.

    Raises:
        Invalid: it is too short to be made anew each time, too long, or holds what a header may not.
    """
    text = header.strip()
    key = text[1:-1] if len(text) > 1 and text[0] == text[-1] == '"' else text
    if not _WELL_FORMED.fullmatch(key):
        raise Invalid("", f"This is no key for the header {HEADER}. {_WELL_FORMED_IS}")
    return key


@dataclass
class Claim:
    """A key that a request shows, and once it is known whose it is, its place among the kept answers."""

    key: str
    #: where the answer will be kept, and what of it is known before it is there
    _place: "_Place | None" = None
    _kept: KeptAnswer = field(default_factory=KeptAnswer)

    def begin(self, request: Request, user: User) -> None:
        """Go on only if the request was not carried out before. Called within the transaction that will do it, as soon
        as it is known that the person may.

        Raises:
            Replay: it was.
            StillWorking: it is being carried out.
            AnotherRequest: the key was another request's.
        """
        if is_dry_run(request):
            return  # nothing is done, and the key is for the act that follows
        place = _Place.of(self.key, user)
        if not place.lock():
            raise StillWorking(
                "It was sent before with this key, and is not answered yet. Nothing is done twice; ask again."
            )
        fingerprint = _fingerprint(request)
        limit = datetime.now(UTC) - KEPT_FOR
        KeptAnswer.objects.filter(digest=place.digest, at__lt=limit).delete()
        kept = KeptAnswer.objects.filter(digest=place.digest).first()
        if kept is None:
            self._place = place
            self._kept = KeptAnswer(digest=place.digest, user=user, token=user.by_token, fingerprint=fingerprint)
            return
        if kept.fingerprint != fingerprint:
            raise AnotherRequest("Nothing was done. Make a new key for each request that is not the same one again.")
        raise Replay(place.opened(kept))

    def keep(self, answer: HttpResponse) -> None:
        """Keep the answer to what was done just now, in the transaction that did it."""
        if self._place is None:
            return
        body = self._place.sealed(answer)
        self._kept.body = body if len(body) <= MOST_BYTES else None
        self._kept.at = datetime.now(UTC)
        self._kept.save(force_insert=True)


@dataclass(frozen=True)
class _Place:
    """Where the answer for a key is kept, and how it is read."""

    digest: str
    _cipher: Fernet

    @classmethod
    def of(cls, key: str, user: User) -> "_Place":
        # keys of different tokens have nothing to do with each other
        token = user.by_token.pk if user.by_token is not None else 0
        name = f"{user.pk} {token} {key}".encode()

        def derived(purpose: bytes) -> bytes:
            return hmac.digest(settings.SECRET_KEY.encode(), purpose + b" " + name, hashlib.sha256)

        return cls(derived(b"place").hex(), Fernet(base64.urlsafe_b64encode(derived(b"answer"))))

    def lock(self) -> bool:
        """Whether no other transaction works on this key; held until this one ends."""
        with connection.cursor() as cursor:
            number = int(self.digest[:16], 16) - 2**63
            cursor.execute("SELECT pg_try_advisory_xact_lock(%s::bigint)", [number])
            return bool(cursor.fetchone()[0])

    def sealed(self, answer: HttpResponse) -> bytes:
        head = {"status": answer.status_code, "type": answer.get("Content-Type", "")}
        return self._cipher.encrypt(zlib.compress(json.dumps(head).encode() + b"\n" + answer.content))

    def opened(self, kept: KeptAnswer) -> HttpResponse:
        if kept.body is None:
            raise Conflict(
                "It was carried out before. Its answer was too long to be kept; nothing is done twice.",
            )
        head, _, content = zlib.decompress(self._cipher.decrypt(bytes(kept.body))).partition(b"\n")
        said = json.loads(head)
        answer = HttpResponse(content, status=said["status"], content_type=said["type"] or None)
        if not said["type"]:
            del answer["Content-Type"]
        answer[REPLAYED] = "true"
        return answer


def forget_answers() -> int:
    """Delete answers whose keys are known no longer; how many."""
    return KeptAnswer.objects.filter(at__lt=datetime.now(UTC) - KEPT_FOR).delete()[0]


def _fingerprint(request: Request) -> str:
    """A digest of what a request asks for: its call, its address, its body, and what it agrees to."""
    made = hashlib.sha256()
    for part in (request.method, request.get_full_path(), request.headers.get(AGREED, "")):
        made.update(f"{part}\n".encode())
    data: Any = request.data
    if isinstance(data, bytes):
        made.update(data)
    elif hasattr(data, "lists"):  # a form, with files
        for name, values in sorted(data.lists()):
            for value in values:
                made.update(f"\n{name}\n".encode())
                if not hasattr(value, "chunks"):
                    made.update(str(value).encode())
                    continue
                for chunk in value.chunks():
                    made.update(chunk)
                value.seek(0)
    else:
        made.update(json.dumps(data, sort_keys=True).encode())
    return made.hexdigest()
