"""Whoever guesses is slowed down: at links, at passkeys, and at proofs of who sits at an open session."""

from datetime import timedelta

from rest_framework import exceptions
from rest_framework.request import Request

from herald.people.addresses import client_address
from herald.people.permissions import person
from herald.people.throttling import NotProved, note_failure, note_success, wait_before


class slowed:  # noqa: N801  used like a function
    """Around what may be guessed at: `refusal` counts as a failed try of `what` at the address of the request.

    Raises:
        Throttled: too many failed, and the next one has to wait.
    """

    def __init__(self, request: Request, what: str, refusal: type[Exception], words: str) -> None:
        self._what, self._refusal, self._words = what, refusal, words
        self._address = client_address(request._request)

    def __enter__(self) -> None:
        wait = wait_before(self._what, self._address)
        if wait > timedelta(0):
            raise exceptions.Throttled(wait.total_seconds(), f"{self._words}; wait a moment.")

    def __exit__(self, kind: object, error: object, trace: object) -> None:
        if isinstance(error, self._refusal):
            note_failure(self._what, self._address)


class proving(slowed):  # noqa: N801  used like a function
    """Around a proof that whoever sits at an open session is who signed in: a password, a code or a passkey."""

    def __init__(self, request: Request) -> None:
        super().__init__(request, f"own {person(request).pk}", NotProved, "Too many tries failed")

    def __exit__(self, kind: object, error: object, trace: object) -> None:
        super().__exit__(kind, error, trace)
        if error is None:
            note_success(self._what, self._address)
