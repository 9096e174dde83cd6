"""Tables to export: CSV, a workbook, JSON lines; each row is written as it comes."""

import csv
import io
import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from django.http import HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase
from drf_spectacular.types import OpenApiTypes
from openpyxl import Workbook
from openpyxl.cell import WriteOnlyCell
from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE

#: a cell that begins so may be run as a formula by a spreadsheet
_FORMULA = ("=", "+", "-", "@", "\t", "\r")
CSV = "text/csv"
JSON_LINES = "application/jsonl"
XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


def documented(*types: str) -> dict[tuple[int, str], OpenApiTypes]:
    """What the document says of a call that answers with a file of one of these types."""
    return {(200, kind): OpenApiTypes.BINARY for kind in types}


@dataclass(frozen=True)
class Table:
    """A table by its name, the names of its columns, and its rows."""

    name: str
    columns: Sequence[str]
    rows: Iterable[Sequence[Any]]


def as_csv(table: Table) -> HttpResponseBase:
    """CSV (RFC 4180) with a byte-order mark, so that spreadsheets read it as UTF-8."""
    return _file(StreamingHttpResponse(_csv(table), content_type=f"{CSV}; charset=utf-8"), f"{table.name}.csv")


def csv_bytes(table: Table) -> bytes:
    """The same, whole: for a mail."""
    return b"".join(_csv(table))


def as_json_lines(table: Table) -> HttpResponseBase:
    """One JSON object a line, with the same columns and cells."""
    lines = (
        json.dumps(dict(zip(table.columns, row, strict=True)), ensure_ascii=False, default=str).encode() + b"\n"
        for row in table.rows
    )
    return _file(StreamingHttpResponse(lines, content_type=f"{JSON_LINES}; charset=utf-8"), f"{table.name}.jsonl")


def as_asked(table: Table, kind: str | None) -> HttpResponseBase:
    """The table as the file that is asked for: `xlsx`, `jsonl`, or CSV, which is what anything else gets."""
    if kind == "xlsx":
        return as_xlsx(table.name, [table])
    return as_json_lines(table) if kind == "jsonl" else as_csv(table)


def as_xlsx(name: str, sheets: Sequence[Table]) -> HttpResponseBase:
    """A workbook with one sheet for each table."""
    book = Workbook(write_only=True)
    for table in sheets:
        sheet = book.create_sheet(table.name.capitalize()[:31])
        sheet.append(list(table.columns))
        for row in table.rows:
            sheet.append([_as_text(sheet, cell) for cell in row])
    out = io.BytesIO()
    book.save(out)
    return _file(HttpResponse(out.getvalue(), content_type=XLSX), f"{name}.xlsx")


def _file(response: HttpResponseBase, name: str) -> HttpResponseBase:
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response


def _csv(table: Table) -> Iterator[bytes]:
    buffer = io.StringIO()
    writer = csv.writer(buffer)
    buffer.write("\ufeff")
    writer.writerow(table.columns)
    for row in table.rows:
        writer.writerow([safe_cell(cell) for cell in row])
        if buffer.tell() > 64_000:
            yield buffer.getvalue().encode()
            buffer.seek(0)
            buffer.truncate()
    yield buffer.getvalue().encode()


def _as_text(sheet: Any, cell: Any) -> Any:
    """Text that looks like a formula, marked as the text that it is; characters that no sheet can hold are replaced."""
    if not isinstance(cell, str):
        return cell
    cell = ILLEGAL_CHARACTERS_RE.sub("\ufffd", cell)
    if not cell.startswith("="):
        return cell
    text = WriteOnlyCell(sheet, cell)
    text.data_type = "s"
    return text


def safe_cell(cell: Any) -> Any:
    """Text that a spreadsheet would run as a formula is kept text by a leading apostrophe; numbers are none."""
    return f"'{cell}" if isinstance(cell, str) and cell[:1] in _FORMULA else cell
