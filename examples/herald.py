"""One call of the API, for the scripts beside it. HERALD_URL says where Brisk Herald is, HERALD_TOKEN is an API token.

Each call that changes something carries a key of its own, so it may be sent again where an answer was lost.
"""

import json
import os
import sys
import time
from pathlib import Path
from typing import Any
from urllib.error import HTTPError, URLError
from urllib.request import Request, urlopen
from uuid import uuid4

TRIES = 5


def call(method: str, path: str, body: Any = None) -> Any:
    """The answer of a call. A refusal ends the script with its words."""
    return _sent(method, path, None if body is None else json.dumps(body).encode(), "application/json")


def upload(path: str, file: Path) -> Any:
    """Send a file as a browser's form does."""
    edge = uuid4().hex
    head = f'--{edge}\r\nContent-Disposition: form-data; name="file"; filename="{file.name}"\r\n\r\n'
    body = head.encode() + file.read_bytes() + f"\r\n--{edge}--\r\n".encode()
    return _sent("POST", path, body, f"multipart/form-data; boundary={edge}")


def _sent(method: str, path: str, body: bytes | None, kind: str) -> Any:
    said = {"Authorization": f"Bearer {os.environ['HERALD_TOKEN']}", "Content-Type": kind}
    said |= {"Idempotency-Key": str(uuid4())}
    request = Request(f"{os.environ['HERALD_URL']}/api/v1/{path}", body, said, method=method)
    for left in reversed(range(TRIES)):
        try:
            with urlopen(request, timeout=60) as answer:
                return json.load(answer) if answer.status != 204 else None
        except HTTPError as error:
            if error.code not in (429, 503) or not left:
                problem = json.load(error)
                sys.exit(f"{problem['title']}: {problem.get('detail', '')}")
            time.sleep(float(error.headers.get("Retry-After", "2")))
        except URLError as error:
            if not left:
                sys.exit(f"Brisk Herald does not answer: {error.reason}")
            time.sleep(2)
    raise AssertionError  # the last try returns or ends
