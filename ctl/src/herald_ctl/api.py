"""Calls of the API: one place that signs in, sends again what may be lost, and says what was refused.

Whatever changes something carries an `Idempotency-Key`, so a request whose answer was lost on the way is sent again
without being carried out twice.
"""

import os
import time
import uuid
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import httpx

from herald_ctl import __name__ as client_name

#: how often a request is sent before its failure is told
TRIES = 5
FIRST_WAIT, LONGEST_WAIT = 0.5, 15.0
#: seconds for an answer; the largest previews take a few
PATIENCE = 90.0


class Trouble(Exception):
    """What keeps a command from being carried out, in words; `problem` is what the server said, if it did."""

    def __init__(self, words: str, problem: Mapping[str, Any] | None = None) -> None:
        super().__init__(words)
        self.problem = dict(problem or {})

    @property
    def code(self) -> str:
        """The code of the server's problem; empty where the server did not answer."""
        return str(self.problem.get("type", "")).rsplit(":", 1)[-1]


class Api:
    """An installation of Brisk Herald, as the owner of a token sees it."""

    def __init__(
        self,
        url: str,
        token: str,
        *,
        transport: httpx.BaseTransport | None = None,
        sleep: Callable[[float], None] = time.sleep,
        notice: Callable[[str], None] = lambda words: None,
    ) -> None:
        self._sleep, self._notice = sleep, notice
        self.http = httpx.Client(
            base_url=f"{url.rstrip('/')}/api/v1/",
            headers={"Authorization": f"Bearer {token}", "User-Agent": client_name},
            timeout=httpx.Timeout(PATIENCE, connect=10.0),
            transport=transport,
        )

    def get(self, path: str, **parameters: Any) -> Any:
        """The answer to a question; parameters that are None are left out."""
        asked = {k: v for k, v in parameters.items() if v is not None}
        return self._sent("GET", path, params=asked).json()

    def post(self, path: str, body: Any = None, **more: Any) -> Any:
        """Ask for something to be done, once."""
        answer = self._sent("POST", path, json=body if body is not None else {}, **more)
        return answer.json() if answer.content else None

    def put(self, path: str, content: bytes, **parameters: Any) -> Any:
        """Send bytes."""
        headers = {"Content-Type": "application/octet-stream"}
        return self._sent("PUT", path, content=content, params=parameters, headers=headers).json()

    def pages(self, path: str, key: str, **parameters: Any) -> Iterator[Any]:
        """All of a list that comes in pages, one after the other."""
        cursor = None
        while True:
            page = self.get(path, cursor=cursor, **parameters)
            yield from page[key]
            cursor = page["next"]
            if cursor is None:
                return

    def _sent(self, method: str, path: str, **request: Any) -> httpx.Response:
        headers = dict(request.pop("headers", {}))
        if method != "GET":
            headers["Idempotency-Key"] = str(uuid.uuid4())
        wait = FIRST_WAIT
        for tries_left in reversed(range(TRIES)):
            try:
                answer = self.http.request(method, path, headers=headers, **request)
            except httpx.TransportError as error:
                if not tries_left:
                    raise Trouble(f"{self.http.base_url} does not answer: {error or type(error).__name__}") from error
                pause = wait
                self._notice(f"{self.http.base_url.host} does not answer; trying again.")
            else:
                if not tries_left or not _may_pass(answer):
                    return _checked(answer)
                pause = _told_to_wait(answer) or wait
                if answer.status_code == 429:
                    self._notice(f"This token calls too often; waiting {pause:.0f} s.")
            self._sleep(min(pause, LONGEST_WAIT * 5))
            wait = min(2 * wait, LONGEST_WAIT)
        raise AssertionError  # the last try returns or raises


def connect(url: str | None, token_file: Path | None, notice: Callable[[str], None] = lambda words: None) -> Api:
    """The installation that the command line or the environment names.

    Raises:
        Trouble: there is no address, or no token.
    """
    address = url or os.environ.get("HERALD_URL", "")
    if urlsplit(address).scheme not in ("http", "https") or not urlsplit(address).netloc:
        raise Trouble("Say where Brisk Herald is, with HERALD_URL or --url, like https://herald.example.com.")
    named = token_file or (Path(os.environ["HERALD_TOKEN_FILE"]) if "HERALD_TOKEN_FILE" in os.environ else None)
    try:
        token = named.read_text().strip() if named is not None else os.environ.get("HERALD_TOKEN", "").strip()
    except OSError as error:
        raise Trouble(f"The token in {named} cannot be read: {error.strerror}.") from error
    if not token or not token.isascii() or any(c.isspace() for c in token):
        raise Trouble("Give a token with HERALD_TOKEN or HERALD_TOKEN_FILE; one is made on the page “Your account”.")
    return Api(address, token, notice=notice)


def _may_pass(answer: httpx.Response) -> bool:
    """Whether the same request may be answered otherwise in a moment."""
    if answer.status_code in (429, 502, 503, 504):
        return True
    return answer.status_code == 409 and _problem(answer).get("type", "").endswith(":still-working")


def _told_to_wait(answer: httpx.Response) -> float:
    said = answer.headers.get("Retry-After", "")
    return float(said) if said.isdigit() else 0.0


def _checked(answer: httpx.Response) -> httpx.Response:
    if answer.is_success:
        return answer
    problem = _problem(answer)
    if not problem:
        raise Trouble(f"{answer.request.url.host} answered {answer.status_code}, and not as Brisk Herald does.")
    words = str(problem.get("detail") or problem.get("title") or answer.status_code)
    for error in problem.get("errors", []):
        message = str(error.get("message", ""))
        if message and message not in words:
            words += f"\n  {error.get('pointer', '')}: {message}"
    if answer.status_code == 401:
        words += " The token may have run out or been revoked."
    raise Trouble(words, problem)


def _problem(answer: httpx.Response) -> dict[str, Any]:
    if not answer.headers.get("Content-Type", "").startswith("application/problem+json"):
        return {}
    try:
        said = answer.json()
    except ValueError:
        return {}
    return said if isinstance(said, dict) else {}
