"""Reading a file of devices as people make them: CSV in its dialects, XLSX, JSON lines."""

import csv
import io
import json
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any
from zipfile import BadZipFile

from openpyxl import load_workbook
from openpyxl.utils.exceptions import InvalidFileException

MAX_COLUMNS = 200
_DELIMITERS = ",;\t|"  # the first one where a line has none


class Unreadable(ValueError):
    """The file is none of the kinds that can be read; the message says what is wrong."""


@dataclass(frozen=True, kw_only=True)
class Row:
    """A row by the headings of its columns. `number` is its line in the file, the headings being line 1."""

    number: int
    cells: dict[str, Any]


def read_rows(content: bytes, file_name: str) -> Iterator[Row]:
    """The rows of a file, one after another; empty rows are left out.

    Raises:
        Unreadable: it cannot be read, or two columns have the same heading.
    """
    name = file_name.lower()
    if name.endswith((".xlsx", ".xlsm")) or content[:4] == b"PK\x03\x04":
        return _xlsx(content)
    text = _decoded(content).removeprefix("\ufeff")
    return _json_lines(text) if name.endswith((".jsonl", ".ndjson", ".json")) else _csv(text)


def _decoded(content: bytes) -> str:
    if b"\x00" in content[:4000] and content[:2] not in (b"\xff\xfe", b"\xfe\xff"):
        raise Unreadable("This is no text file. CSV, XLSX and JSON lines can be read.")
    encodings = ("utf-16",) if content[:2] in (b"\xff\xfe", b"\xfe\xff") else ("utf-8-sig", "cp1252")
    for encoding in encodings:
        try:
            return content.decode(encoding)
        except UnicodeDecodeError:
            continue
    raise Unreadable("The text is in no encoding that can be told; save it as UTF-8.")


def _csv(text: str) -> Iterator[Row]:
    first = text.split("\n", 1)[0]
    delimiter = max(_DELIMITERS, key=first.count)
    csv.field_size_limit(1_000_000)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    try:
        headings = _headings(next(reader, []))
        line = reader.line_num
        for cells in reader:
            line, number = reader.line_num, line + 1
            if any(c.strip() for c in cells):
                if len(cells) > len(headings):
                    raise Unreadable(f"Line {number} has {len(cells)} cells; there are {len(headings)} headings.")
                yield Row(number=number, cells={h: _text(c) for h, c in zip(headings, cells, strict=False) if h})
    except csv.Error as error:
        raise Unreadable(f"The file is no CSV: {error}.") from error


def _text(cell: str) -> str:
    """A cell without the apostrophe that keeps a spreadsheet from running it as a formula."""
    return cell[1:] if cell[:1] == "'" and cell[1:2] in ("=", "+", "@", "\t", "\r") else cell


def _xlsx(content: bytes) -> Iterator[Row]:
    try:
        book = load_workbook(io.BytesIO(content), read_only=True, data_only=True)
    except (InvalidFileException, BadZipFile, KeyError, ValueError) as error:
        raise Unreadable("This is no workbook that can be read; save it as XLSX or CSV.") from error
    sheet = book.worksheets[0]
    rows = sheet.iter_rows(values_only=True)
    headings = _headings(["" if h is None else str(h) for h in next(rows, ())])
    for number, cells in enumerate(rows, 2):
        if any(c not in (None, "") for c in cells):
            yield Row(
                number=number,
                cells={h: "" if c is None else c for h, c in zip(headings, cells, strict=False) if h},
            )


def _json_lines(text: str) -> Iterator[Row]:
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        try:
            cells = json.loads(line)
        except json.JSONDecodeError as error:
            raise Unreadable(f"Line {number} is no JSON: {error.msg} at column {error.colno}.") from error
        if not isinstance(cells, dict):
            raise Unreadable(f"Line {number} is no JSON object.")
        yield Row(number=number, cells={k: "" if v is None else v for k, v in cells.items()})


def _headings(cells: list[str] | tuple[str, ...]) -> list[str]:
    headings = [c.strip() for c in cells]
    if not any(headings):
        raise Unreadable("The file is empty, or its first line has no headings.")
    if len(headings) > MAX_COLUMNS:
        raise Unreadable(f"The file has {len(headings)} columns; at most {MAX_COLUMNS} are read.")
    twice = {h for h in headings if h and headings.count(h) > 1}
    if twice:
        raise Unreadable(f"Two columns are called {sorted(twice)[0]}.")
    return headings
