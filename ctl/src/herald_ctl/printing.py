"""What is written to the terminal: tables, sentences and JSON.

Names and texts come from devices and from people. Characters that a terminal takes as commands are shown as such, and
never carried out.
"""

import json
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

#: control characters, and those that turn the direction of writing around
_UNSAFE = dict.fromkeys((*range(32), *range(127, 160), *range(0x202A, 0x202F), *range(0x2066, 0x206A)), "�")
_UNSAFE |= {ord("\t"): " ", ord("\n"): " "}


def safe(value: Any) -> str:
    """A value as one line that a terminal only shows."""
    return str("" if value is None else value).translate(_UNSAFE)


def moment(text: str | None) -> str:
    """A moment of the API, in UTC."""
    if not text:
        return ""
    return f"{datetime.fromisoformat(text).astimezone(UTC):%a %-d %b %Y %H:%M} UTC"


def sentence(parts: Iterable[Mapping[str, str]]) -> str:
    """A sentence that comes in pieces."""
    return safe("".join(part["text"] for part in parts))


def size(count: int) -> str:
    """A number of bytes."""
    for unit, one in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if count >= one:
            return f"{count / one:.0f} {unit}" if count >= 100 * one else f"{count / one:.1f} {unit}"
    return f"{count} B"


class Output:
    """Where a command writes: for people, or as JSON for programs."""

    def __init__(self, *, as_json: bool, console: Console | None = None) -> None:
        self.as_json = as_json
        self.console = console or Console(highlight=False, emoji=False)

    def json(self, value: Any, *, on_one_line: bool = False) -> None:
        """Write a value as JSON."""
        text = json.dumps(value, ensure_ascii=False, indent=None if on_one_line else 2)
        self.console.out(text, highlight=False)

    def line(self, words: str, style: str = "") -> None:
        """Write a sentence; words of devices and people in it are `safe` already."""
        self.console.print(Text(words, style=style), soft_wrap=True)

    def table(self, columns: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
        """Write rows below each other. Columns that hold numbers stand right."""
        written = [[*row] for row in rows]
        table = Table(box=None, pad_edge=False, header_style="dim", show_edge=False)
        for n, column in enumerate(columns):
            are_numbers = bool(written) and all(isinstance(row[n], int) for row in written)
            table.add_column(column, justify="right" if are_numbers else "left", overflow="fold")
        for row in written:
            table.add_row(*(Text(f"{v:,}" if isinstance(v, int) else safe(v)) for v in row))
        self.console.print(table, soft_wrap=not self.console.is_terminal)

    def facts(self, pairs: Iterable[tuple[str, Any]]) -> None:
        """Write what is known of one thing, a line each; what is empty is left out."""
        known = [(name, f"{v:,}" if isinstance(v, int) else safe(v)) for name, v in pairs if v not in (None, "", [])]
        width = max((len(name) for name, _ in known), default=0)
        for name, value in known:
            self.console.print(Text(f"{name:<{width}}  ", style="dim") + Text(value), soft_wrap=True)
