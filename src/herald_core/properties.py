"""Values of attributes: from what a person or a file says to what is stored."""

import re
from datetime import date, datetime
from typing import Any

from herald_core.rules.fields import FieldSpec, FieldType
from herald_core.text import closest, fold, is_storable, nfc
from herald_core.timing.clocks import is_zone, zone_names
from herald_core.versions import is_version

MAX_TEXT = 2000
#: seconds between two check-ins of a device: at least, and at most (a week)
MIN_INTERVAL, MAX_INTERVAL = 10, 7 * 24 * 3600
_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)\Z", re.ASCII)
_TAG = re.compile(r"[a-z0-9][a-z0-9_-]{0,59}\Z", re.ASCII)
_YES = frozenset({"yes", "y", "true", "1"})
_NO = frozenset({"no", "n", "false", "0"})

Stored = str | int | float | bool


class DoesNotFit(ValueError):
    """The value does not fit the attribute; the message says what would."""


def read_property(given: Any, spec: FieldSpec) -> Stored:
    """The value to store for what was given: text, or a number, truth or date as a file holds it.

    Raises:
        DoesNotFit: it does not fit, with what would.
    """
    match spec.type:
        case FieldType.NUMBER:
            return _number(given, spec)
        case FieldType.YES_NO:
            return _yes_no(given)
        case FieldType.DATE:
            return _day(given)
        case FieldType.VERSION:
            text = _text(given)
            if not is_version(text):
                raise DoesNotFit(f"“{text[:40]}” is no version; one like 5.2.0 is expected")
            return text
        case FieldType.CHOICE:
            return _choice(_text(given), spec)
        case _:
            return _text(given)


def read_tag(given: str) -> str:
    """A tag as it is kept: lower case, dashes for blanks.

    Raises:
        DoesNotFit: it holds other characters than letters a to z, digits, dashes and underlines.
    """
    slug = re.sub(r"\s+", "-", given.strip().lower())
    if not _TAG.match(slug):
        raise DoesNotFit(f"“{given[:40]}” is no tag; small letters, digits, dashes and underlines are")
    return slug


def read_zone(given: str) -> str:
    """A time zone by its IANA name.

    Raises:
        DoesNotFit: there is none of that name; with the nearest.
    """
    name = given.strip()
    if is_zone(name):
        return name
    near = closest(name[:64], zone_names())
    hint = f"; did you mean {near}?" if near else ""
    raise DoesNotFit(f"“{name[:40]}” is no time zone; a name like Europe/Madrid is expected{hint}")


def read_interval(given: Any) -> int:
    """Seconds between two check-ins, as `MIN_INTERVAL` to `MAX_INTERVAL`.

    Raises:
        DoesNotFit: it is no whole number of seconds within those bounds.
    """
    try:
        seconds = int(str(given).strip()) if not isinstance(given, float) else int(given)
    except (ValueError, OverflowError):
        seconds = 0
    if isinstance(given, bool) or not MIN_INTERVAL <= seconds <= MAX_INTERVAL:
        raise DoesNotFit(f"“{str(given)[:40]}” is no interval; {MIN_INTERVAL} to {MAX_INTERVAL} seconds are expected")
    return seconds


def _text(given: Any) -> str:
    if isinstance(given, bool):
        given = "yes" if given else "no"
    if isinstance(given, float) and given.is_integer():
        given = int(given)  # a spreadsheet holds every number as a fraction
    text = nfc(given.isoformat() if isinstance(given, date) else str(given)).strip()
    if not text or len(text) > MAX_TEXT or not is_storable(text):
        raise DoesNotFit(f"1 to {MAX_TEXT} characters that can be stored are expected")
    return text


def _number(given: Any, spec: FieldSpec) -> int | float:
    if isinstance(given, int | float) and not isinstance(given, bool):
        number: int | float = given
    elif isinstance(given, str) and _NUMBER.match(given.strip()):
        number = float(given) if "." in given else int(given)
    else:
        unit = f" in {spec.unit}" if spec.unit else ""
        raise DoesNotFit(f"“{str(given)[:40]}” is no number; one{unit} with a point for fractions is expected")
    if not abs(number) < 1e15:  # also refuses what is not a number at all
        raise DoesNotFit("a number below 1e15 is expected")
    return int(number) if isinstance(number, float) and number.is_integer() else number


def _yes_no(given: Any) -> bool:
    word = str(given).strip().lower()
    if word in _YES or word in _NO:
        return word in _YES
    raise DoesNotFit(f"“{str(given)[:40]}” is neither yes nor no")


def _day(given: Any) -> str:
    if isinstance(given, datetime):
        return given.date().isoformat()
    if isinstance(given, date):
        return given.isoformat()
    try:
        return date.fromisoformat(str(given).strip()).isoformat()
    except ValueError as error:
        raise DoesNotFit(f"“{str(given)[:40]}” is no day; one like 2026-11-23 is expected") from error


def _choice(text: str, spec: FieldSpec) -> str:
    if text in spec.choices:
        return text
    same = [c for c in spec.choices if fold(c) == fold(text)]
    if same:
        return same[0]
    near = closest(text, spec.choices)
    hint = f"; did you mean {near}?" if near else ""
    raise DoesNotFit(f"“{text[:40]}” is not among {', '.join(spec.choices[:8])}{hint}")
