"""The entries of a list as people keep them: lines, a column of a table, or a place in a JSON document."""

import json
from collections.abc import Iterator
from typing import Any

from herald.imports.reading import Unreadable, decoded, is_workbook, read_rows
from herald_core.text import in_words, is_storable, nfc

MOST_BYTES = 20_000_000
MOST_ENTRIES = 200_000
#: the longest that a name, uid or address may be; the rest of a longer entry is only shown
LONGEST = 320
_DELIMITERS = ",;\t|"


def read_entries(body: bytes, *, pointer: str = "", column: str = "") -> list[str]:
    """The entries of a list, each once, in their order. Without a `column` each line, or each value, is one; with it,
    the cell of that column, or that member of each object. A `pointer` (RFC 6901) says where in a JSON document.

    Raises:
        Unreadable: it is no list of that kind; the words say what it is, and may be shown.
    """
    entries: dict[str, None] = {}
    for entry in _entries(body, pointer, column):
        text = nfc(entry).strip()
        if not text:
            continue
        if not is_storable(text):
            raise Unreadable(f"Entry {len(entries) + 1} has a character in it that no name has.")
        entries[text[:LONGEST]] = None
        if len(entries) > MOST_ENTRIES:
            raise Unreadable(f"It has more than {MOST_ENTRIES:,} entries.")
    return list(entries)


def _entries(body: bytes, pointer: str, column: str) -> Iterator[str]:
    if is_workbook(body, ""):
        return _cells(body, pointer, column)
    text = decoded(body).removeprefix("\ufeff")
    if text.lstrip()[:1] in ("[", "{"):
        return _values(_at(_document(text), pointer), column)
    if text.lstrip()[:1] == "<":
        raise Unreadable("It is a page for people or XML, and no list; a sign-in page answers in place of some.")
    return _cells(body, pointer, column) if column else _lines(text, pointer)


def _cells(body: bytes, pointer: str, column: str) -> Iterator[str]:
    _check_no_pointer(pointer)
    if not column:
        raise Unreadable("It is a workbook; say which column holds the entries.")
    for row in read_rows(body, "list.csv"):
        if column not in row.cells:
            raise Unreadable(f"It has no column “{column}”; its columns are {_some(row.cells)}.")
        yield str(row.cells[column] or "")


def _lines(text: str, pointer: str) -> Iterator[str]:
    _check_no_pointer(pointer)
    first = text.partition("\n")[0]
    if delimiter := next((d for d in _DELIMITERS if d in first), None):
        raise Unreadable(f"It has several columns; say which holds the entries: {_some(first.split(delimiter))}.")
    yield from (line.strip().strip('"') for line in text.splitlines())


def _check_no_pointer(pointer: str) -> None:
    if pointer:
        raise Unreadable("It is no JSON document, so there is no place in it to point at.")


def _document(text: str) -> Any:
    try:
        return json.loads(text)
    except (ValueError, RecursionError) as error:
        try:
            return [json.loads(line) for line in text.splitlines() if line.strip()]  # JSON lines
        except (ValueError, RecursionError):
            raise Unreadable(f"It is no JSON: {error}.") from error


def _at(document: Any, pointer: str) -> Any:
    """What a pointer leads to (RFC 6901)."""
    if pointer and not pointer.startswith("/"):
        raise Unreadable("A place in a JSON document begins with /, as in /data/devices.")
    here = document
    for step in pointer.split("/")[1:]:
        name = step.replace("~1", "/").replace("~0", "~")
        if isinstance(here, dict) and name in here:
            here = here[name]
        elif isinstance(here, list) and name.isascii() and name.isdecimal() and len(name) < 7 and int(name) < len(here):
            here = here[int(name)]
        else:
            there = f"; there are {_some(here)}" if isinstance(here, dict) else ""
            raise Unreadable(f"There is no “{name}” where {pointer} points{there}.")
    return here


def _values(found: Any, column: str) -> Iterator[str]:
    if not isinstance(found, list):
        raise Unreadable(f"{_kind(found).capitalize()} stands there, and no list{_hint(found)}.")
    for number, value in enumerate(found, 1):
        if isinstance(value, dict):
            if not column:
                raise Unreadable(f"Its entries are objects; say which member holds the name: {_some(value)}.")
            if column not in value:
                raise Unreadable(f"Entry {number} has no “{column}”; it has {_some(value)}.")
            value = value[column]
        elif column:
            raise Unreadable(f"Entry {number} is no object, so it has no “{column}”.")
        if value is None:
            continue
        if isinstance(value, bool) or not isinstance(value, str | int):
            raise Unreadable(f"Entry {number} is {_kind(value)}, where a name is expected.")
        yield str(value)


def _kind(value: Any) -> str:
    kinds = {dict: "an object", list: "a list", str: "a text", bool: "true or false", type(None): "nothing"}
    return kinds.get(type(value), "a number")


def _hint(found: Any) -> str:
    lists = [f"/{k}" for k, v in found.items() if isinstance(v, list)] if isinstance(found, dict) else []
    return f"; point at {in_words(lists[:5])}" if lists else ""


def _some(names: Any) -> str:
    """The first names of several, shortened."""
    shown = [f"“{str(n).strip()[:40]}”" for n in names][:8]
    return in_words(shown) or "none"
