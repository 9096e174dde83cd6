"""Literals of a rule: from what was written to a value of the field's type."""

import re
from datetime import date, timedelta

from herald_core.rules.fields import FieldSpec, FieldType
from herald_core.rules.lexer import Kind, Token
from herald_core.rules.tree import Op, Value
from herald_core.text import closest, fold, nfc
from herald_core.versions import is_version

_NUMBER = re.compile(r"-?\d+(\.\d+)?\Z", re.ASCII)
_DATE = re.compile(r"\d{4}-\d{2}-\d{2}\Z", re.ASCII)
_DURATION = re.compile(r"(\d{1,7})([mhdw])\Z", re.ASCII)
_UNIT = {"m": timedelta(minutes=1), "h": timedelta(hours=1), "d": timedelta(days=1), "w": timedelta(weeks=1)}
_LONGEST = timedelta(days=36_500)
_FIRST_DAY, _LAST_DAY = date(1900, 1, 1), date(2199, 12, 31)
MAX_DIGITS = 15  # of a number; a double holds them all, so that both engines see the same value


class LiteralError(ValueError):
    """The literal does not fit its field."""

    def __init__(self, message: str, expected: tuple[str, ...] = (), nearest: str | None = None) -> None:
        super().__init__(message)
        self.expected = expected
        self.nearest = nearest


def read_literal(token: Token, spec: FieldSpec, op: Op) -> Value:
    """The value that `token` stands for as an operand of `op` on the field.

    Raises:
        LiteralError: it does not fit, with what would.
    """
    if op in (Op.OLDER_THAN, Op.WITHIN):
        return _duration(token)
    if op in (Op.CONTAINS, Op.STARTS_WITH, Op.ENDS_WITH, Op.LIKE):
        return nfc(token.value)
    match spec.type:
        case FieldType.NUMBER:
            return _number(token, spec)
        case FieldType.YES_NO:
            return _yes_no(token, spec)
        case FieldType.DATE | FieldType.TIME:
            return _day(token, spec)
        case FieldType.VERSION:
            if not is_version(token.value):
                raise LiteralError(f"“{token.value}” is no version.", ("a version such as 5.2.0",))
            return nfc(token.value)
        case FieldType.CHOICE:
            return _choice(token, spec)
        case _:
            return nfc(token.value)


def can_be_written(value: object, kind: FieldType) -> bool:
    """Whether a value that a device has can stand in a rule about a field of this type."""
    match kind:
        case FieldType.VERSION:
            return isinstance(value, str) and is_version(value)
        case FieldType.DATE:
            try:
                return isinstance(value, str) and _FIRST_DAY <= date.fromisoformat(value) <= _LAST_DAY
            except ValueError:
                return False
        case FieldType.NUMBER:
            return isinstance(value, int | float) and not isinstance(value, bool)
        case FieldType.YES_NO:
            return isinstance(value, bool)
        case FieldType.SET:
            return True
    return isinstance(value, str) and value != ""


def _duration(token: Token) -> timedelta:
    match = _DURATION.match(token.value) if token.kind is Kind.WORD else None
    if match is None:
        raise LiteralError(f"“{token.value}” is no length of time.", ("45m", "6h", "7d", "2w"))
    length = int(match[1]) * _UNIT[match[2]]
    if not timedelta(0) < length <= _LONGEST:
        raise LiteralError("A length of time is at least a minute and at most 36500d.", ("7d",))
    return length


def _number(token: Token, spec: FieldSpec) -> int | float:
    if not _NUMBER.match(token.value):
        raise LiteralError(f"{spec.key} is a number; “{token.value}” is none.", ("a number such as 20 or 3.5",))
    if len(token.value.replace("-", "").replace(".", "").lstrip("0")) > MAX_DIGITS:
        raise LiteralError(f"A number has at most {MAX_DIGITS} digits.", ("a shorter number",))
    number = float(token.value)
    return int(number) if number.is_integer() else number


def _yes_no(token: Token, spec: FieldSpec) -> bool:
    if token.word not in ("yes", "no"):
        raise LiteralError(f"{spec.key} is yes or no; “{token.value}” is neither.", ("yes", "no"))
    return token.word == "yes"


def _day(token: Token, spec: FieldSpec) -> date:
    try:
        day = date.fromisoformat(token.value) if _DATE.match(token.value) else None
    except ValueError:
        day = None
    if day is None or not _FIRST_DAY <= day <= _LAST_DAY:
        message = f"“{token.value}” is no day that {spec.key} can have."
        raise LiteralError(message, ("a day such as 2026-11-23",))
    return day


def _choice(token: Token, spec: FieldSpec) -> str:
    value = nfc(token.value)
    for choice in spec.choices:
        if fold(choice) == fold(value):
            return choice
    if not spec.choices:
        return value
    message = f"“{value}” is none of the choices of {spec.key}."
    raise LiteralError(message, spec.choices, closest(value, spec.choices))
