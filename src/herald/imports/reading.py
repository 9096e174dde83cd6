"""Reading a file of devices as people make them: CSV in its dialects, XLSX, JSON lines.

A file may be anything: how much is read of it is bounded before it is read. What is wrong with one row is said of that
row; what makes the whole file unreadable is raised.
"""

import csv
import io
import json
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any
from zipfile import BadZipFile, ZipFile

from openpyxl import load_workbook
from openpyxl.utils.exceptions import InvalidFileException

MAX_COLUMNS = 200
MAX_ROWS = 500_000
#: characters of one line of text
MAX_LINE = 1_000_000
#: bytes of a workbook once it is unpacked; a small file can unpack to any size
MAX_UNPACKED = 100 * 1024 * 1024
_DELIMITERS = ",;\t|"  # the first one where a line has none
_NO_WORKBOOK = "This is no workbook that can be read; save it as XLSX or CSV."
_BROKEN = (InvalidFileException, BadZipFile, LookupError, ValueError, TypeError, AttributeError, SyntaxError, OSError)
_WORKBOOK = b"PK\x03\x04"


class Unreadable(ValueError):
    """The file is none of the kinds that can be read; the message says what is wrong."""


@dataclass(frozen=True, kw_only=True)
class Row:
    """A row by the headings of its columns. `number` is its line in the file, the headings being line 1; `problem` says
    why the row itself cannot be taken."""

    number: int
    cells: dict[str, Any]
    problem: str = ""


def is_workbook(content: bytes, file_name: str) -> bool:
    """Whether it is read as a workbook, which takes long enough to be a job."""
    return file_name.lower().endswith((".xlsx", ".xlsm")) or content[:4] == _WORKBOOK


def read_rows(content: bytes, file_name: str) -> Iterator[Row]:
    """The rows of a file, one after another; empty rows are left out.

    Raises:
        Unreadable: it cannot be read, is too large, or two columns have the same heading.
    """
    if is_workbook(content, file_name):
        return _bounded(_xlsx(content))
    text = decoded(content).removeprefix("\ufeff")
    is_json = file_name.lower().endswith((".jsonl", ".ndjson", ".json"))
    return _bounded(_json_lines(text) if is_json else _csv(text))


def _bounded(rows: Iterator[Row]) -> Iterator[Row]:
    for count, row in enumerate(rows, 1):
        if count > MAX_ROWS:
            raise Unreadable(f"The file has more than {MAX_ROWS:,} rows; part it in several.")
        yield row


def decoded(content: bytes) -> str:
    """A text file as text, whichever of the usual encodings it is in.

    Raises:
        Unreadable: it is no text.
    """
    if b"\x00" in content[:4000] and content[:2] not in (b"\xff\xfe", b"\xfe\xff"):
        raise Unreadable("This is no text file. CSV, XLSX and JSON lines can be read.")
    encodings = ("utf-16",) if content[:2] in (b"\xff\xfe", b"\xfe\xff") else ("utf-8-sig", "cp1252")
    for encoding in encodings:
        try:
            return content.decode(encoding)
        except UnicodeDecodeError:
            continue
    raise Unreadable("The text is in no encoding that can be told; save it as UTF-8.")


def _lines(text: str) -> Iterator[str]:
    """The lines of a text, with their ends; one that is too long is no line of a file of devices."""
    for number, line in enumerate(io.StringIO(text, newline=""), 1):
        if len(line) > MAX_LINE:
            raise Unreadable(f"Line {number} has {len(line):,} characters; at most {MAX_LINE:,} are read.")
        yield line


def _csv(text: str) -> Iterator[Row]:
    first = next(_lines(text), "")
    delimiter = max(_DELIMITERS, key=first.count)
    csv.field_size_limit(MAX_LINE)
    reader = csv.reader(_lines(text), delimiter=delimiter)
    try:
        headings = _headings(next(reader, []))
        line = reader.line_num
        for cells in reader:
            line, number = reader.line_num, line + 1
            if not any(c.strip() for c in cells):
                continue
            problem = ""
            if any(c.strip() for c in cells[len(headings) :]):
                problem = f"it has {len(cells)} cells; there are {len(headings)} headings"
            yield Row(
                number=number,
                cells={h: _text(c) for h, c in zip(headings, cells, strict=False) if h},
                problem=problem,
            )
    except csv.Error as error:
        raise Unreadable(f"The file is no CSV: {error}.") from error


def _text(cell: str) -> str:
    """A cell without the apostrophe that keeps a spreadsheet from running it as a formula."""
    return cell[1:] if cell[:1] == "'" and cell[1:2] in ("=", "+", "-", "@", "\t", "\r") else cell


def _xlsx(content: bytes) -> Iterator[Row]:
    check_unpacked(content)
    try:
        book = load_workbook(io.BytesIO(content), read_only=True, data_only=True)
        sheet = book.worksheets[0]
        sheet.reset_dimensions()  # a sheet may claim fewer columns than it has; each row is as wide as its last cell
        rows = sheet.iter_rows(values_only=True)
        headings = _headings(["" if h is None else str(h) for h in next(rows, ())])
        room = MAX_ROWS * MAX_COLUMNS
        for number, cells in enumerate(rows, 2):
            room -= len(cells)  # a row that holds one cell far to the right is as dear as a full one
            if room < 0:
                raise Unreadable(f"The sheet is far wider than its headings; delete the columns after {len(headings)}.")
            if not any(c not in (None, "") for c in cells):
                continue
            if number > MAX_ROWS + 1:
                raise Unreadable(f"The sheet goes beyond row {MAX_ROWS:,}; part it in several.")
            beyond = any(c not in (None, "") for c in cells[len(headings) :])
            yield Row(
                number=number,
                cells={h: "" if c is None else c for h, c in zip(headings, cells, strict=False) if h},
                problem="it has cells beyond the headings" if beyond else "",
            )
    except Unreadable:
        raise
    # the library raises nearly anything at a workbook that is made up: each means that it cannot be read
    except _BROKEN as error:
        raise Unreadable(_NO_WORKBOOK) from error


def check_unpacked(content: bytes) -> None:
    """Refuse a workbook that unpacks to more than can be read. No more is ever unpacked than it says here.

    Raises:
        Unreadable: it is too large, or no workbook.
    """
    try:
        with ZipFile(io.BytesIO(content)) as archive:
            unpacked = sum(entry.file_size for entry in archive.infolist())
    except (BadZipFile, OSError, ValueError, NotImplementedError) as error:
        raise Unreadable(_NO_WORKBOOK) from error
    if unpacked > MAX_UNPACKED:
        raise Unreadable(f"The workbook unpacks to more than {MAX_UNPACKED // 1024 // 1024} MB; save it as CSV.")


def _json_lines(text: str) -> Iterator[Row]:
    for number, line in enumerate(_lines(text), 1):
        if not line.strip():
            continue
        try:
            cells = json.loads(line)
        except json.JSONDecodeError as error:
            yield Row(number=number, cells={}, problem=f"it is no JSON: {error.msg} at column {error.colno}")
            continue
        except (RecursionError, ValueError):
            yield Row(number=number, cells={}, problem="it is no JSON that can be read")
            continue
        if not isinstance(cells, dict):
            yield Row(number=number, cells={}, problem="it is no JSON object")
            continue
        yield Row(number=number, cells={str(k): "" if v is None else v for k, v in cells.items()})


def _headings(cells: list[str] | tuple[str, ...]) -> list[str]:
    headings = [c.strip() for c in cells]
    while headings and not headings[-1]:
        headings.pop()  # a spreadsheet ends lines with as many empty cells as it likes
    if not headings:
        raise Unreadable("The file is empty, or its first line has no headings.")
    if len(headings) > MAX_COLUMNS:
        raise Unreadable(f"The file has more than {MAX_COLUMNS} columns; at most {MAX_COLUMNS} are read.")
    twice = {h for h in headings if h and headings.count(h) > 1}
    if twice:
        raise Unreadable(f"Two columns are called {sorted(twice)[0]}.")
    return headings
