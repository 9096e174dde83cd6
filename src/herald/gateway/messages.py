"""What devices say and what they are told: the shapes of the device protocol.

docs/device-protocol.md describes them in words; `herald.gateway.openapi` as OpenAPI 3.1.
"""

import re
from hashlib import blake2b
from typing import Any

import msgspec

from herald_core.deliveries import REPORTABLE
from herald_core.text import is_storable, nfc
from herald_core.versions import is_version

MAX_BODY_BYTES = 64 * 1024
MAX_FACTS = 200
MAX_VALUE_BYTES = 8 * 1024
_FACT_KEY = re.compile(r"[a-z][a-z0-9_]{0,39}\Z")
_ORDER_ID = re.compile(r"(\d{1,18})\.(\d{1,5})\Z", re.ASCII)
MAX_COUNTER = 2**62
MAX_BOOT = 40


class Health(msgspec.Struct):
    ok: bool = True
    fault: str = ""


class OrderReport(msgspec.Struct):
    """What a device says about the order in its hands."""

    order: str
    counter: int
    phase: str
    progress: int = 0
    error: str = ""
    error_text: str = ""
    results: dict[str, Any] = {}
    #: names the device's boot; `counter` may begin anew with each
    boot: str = ""
    #: the order's notice is shown now; whoever reads it has just put the install off
    notice_shown: bool = False
    deferred: bool = False


class CheckIn(msgspec.Struct):
    """One check-in. `facts` left out means that nothing changed since the last one."""

    firmware: str | None = None
    facts: dict[str, Any] | None = None
    health: Health | None = None
    report: OrderReport | None = None
    #: names the device's boot: any text that is new at each start
    boot: str = ""

    def digests(self) -> tuple[int, int | None]:
        """Numbers that stand for what the device says of itself: for its firmware, health and boot, and for its facts;
        None where it leaves these out, as they have not changed."""
        facts = None if self.facts is None else _digest(self.facts)
        return _digest((self.firmware, self.health, self.boot)), facts


def _digest(said: Any) -> int:
    return int.from_bytes(blake2b(msgspec.json.encode(said), digest_size=8).digest(), "big", signed=True)


class Order(msgspec.Struct, omit_defaults=True):
    """What a device is to do."""

    id: str
    kind: str
    not_after_seconds: int
    expected_minutes: int = 0
    version: str = ""
    size: int = 0
    sha256: str = ""
    jws: str = ""
    #: leave to go down to this version, as a JWS; without it a device refuses a version below its own
    downgrade: str = ""
    #: what a command asks for: an action of the protocol, the manufacturer's word where it is `named`, parameters
    action: str = ""
    action_name: str = ""
    parameters: dict[str, Any] = {}
    #: the file is to be fetched, verified and kept; the install comes as an order of its own
    fetch_only: bool = False
    #: words for whoever stands before the device
    notice: str = ""
    #: whoever reads it may put the install off once more, at most until so many seconds from now where it says so
    may_defer: bool = False
    defer_until_seconds: int = 0


class Answer(msgspec.Struct, omit_defaults=True):
    """The answer to a check-in. `withdrawn` names an order the device speaks of that is no more; `report`
    asks for all facts at the next check-in."""

    admission: str
    next_check_in_seconds: int
    order: Order | None = None
    withdrawn: list[str] = []
    report: bool = False


class ProtocolError(Exception):
    """The request cannot be taken; becomes problem details."""

    def __init__(self, status: int, code: str, detail: str) -> None:
        super().__init__(detail)
        self.status = status
        self.code = code
        self.detail = detail


_decoder = msgspec.json.Decoder(CheckIn)


def read_check_in(body: bytes) -> CheckIn:
    """A check-in from its JSON.

    Raises:
        ProtocolError: 422 with the place and reason of what does not fit.
    """
    try:
        message = _decoder.decode(body)
    except RecursionError:
        raise ProtocolError(422, "malformed", "The body does not fit: it is nested too deeply") from None
    except (msgspec.ValidationError, msgspec.DecodeError, UnicodeDecodeError) as error:
        raise ProtocolError(422, "malformed", f"The body does not fit: {error}") from error
    if message.firmware is not None:
        if not is_version(message.firmware) or not is_storable(message.firmware):
            raise ProtocolError(422, "bad-version", "firmware: 1 to 64 characters without blanks or control characters")
        message.firmware = nfc(message.firmware)
    if message.facts is not None:
        message.facts = _facts(message.facts)
    if len(message.boot) > MAX_BOOT or not is_storable(message.boot):
        raise ProtocolError(422, "bad-boot", f"boot: at most {MAX_BOOT} characters that can be stored")
    if message.report is not None:
        _check_report(message.report)
    return message


def _facts(facts: dict[str, Any]) -> dict[str, Any]:
    """The facts that can be kept: plain keys, plain values."""
    if len(facts) > MAX_FACTS:
        raise ProtocolError(422, "too-many-facts", f"facts: {len(facts)} of them; at most {MAX_FACTS} are taken")
    kept: dict[str, Any] = {}
    for key, value in facts.items():
        if not _FACT_KEY.match(key):
            raise ProtocolError(
                422, "bad-fact-key", f"facts: the key {key[:60]!r} is not lower-case letters, digits and _"
            )
        if isinstance(value, str):
            if len(value.encode("utf-8", "surrogatepass")) > MAX_VALUE_BYTES:
                raise ProtocolError(422, "fact-too-long", f"facts.{key}: longer than {MAX_VALUE_BYTES} bytes")
            if not is_storable(value):
                raise ProtocolError(422, "bad-fact", f"facts.{key}: holds a character that cannot be stored")
            kept[key] = nfc(value)
        elif isinstance(value, bool | int | float):
            if not isinstance(value, bool) and abs(value) >= 1e15:
                raise ProtocolError(422, "bad-fact", f"facts.{key}: a number below 1e15 is expected")
            kept[key] = value
        elif value is not None:
            raise ProtocolError(422, "bad-fact", f"facts.{key}: text, a number, true or false is expected")
    return kept


def _check_report(report: OrderReport) -> None:
    if not _ORDER_ID.match(report.order):
        raise ProtocolError(422, "bad-order-id", "report.order: not an order id that this server gave")
    if report.phase not in REPORTABLE:
        raise ProtocolError(422, "bad-phase", f"report.phase: one of {', '.join(REPORTABLE)} is expected")
    if len(report.boot) > MAX_BOOT or not is_storable(report.boot):
        raise ProtocolError(422, "bad-report", f"report.boot: at most {MAX_BOOT} characters")
    if not 0 <= report.counter <= MAX_COUNTER or not 0 <= report.progress <= 100:
        raise ProtocolError(422, "bad-report", "report: counter is a whole number from 0, progress one from 0 to 100")
    texts = (report.error, report.error_text)
    if (
        not all(is_storable(t) for t in texts)
        or len(report.error) > 60
        or len(msgspec.json.encode(report.results)) > MAX_VALUE_BYTES
    ):
        raise ProtocolError(422, "bad-report", "report: error up to 60 characters, results up to 8 KB")
    if b"\\u0000" in msgspec.json.encode(report.results):
        raise ProtocolError(422, "bad-report", "report.results: holds a character that cannot be stored")


def delivery_and_attempt(order_id: str) -> tuple[int, int]:
    """An order id taken apart: the delivery and which attempt."""
    match = _ORDER_ID.match(order_id)
    if match is None:
        raise ValueError(order_id)
    return int(match[1]), int(match[2])
