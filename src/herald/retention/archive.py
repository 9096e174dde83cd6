"""Files of what is deleted: one a kind and day, CSV (RFC 4180) packed with gzip, each batch added before it goes.

A batch that was written and not deleted, as the program was stopped between, stands in them twice.
"""

import csv
import gzip
import io
import json
import os
from collections.abc import Sequence
from datetime import date, datetime
from pathlib import Path
from typing import Any

from django.conf import settings

from herald.retention.totals import Save


def saving_to_file(key: str, day: date) -> Save:
    """Adds rows to the file of a kind and day, safe on the disk before it returns."""
    path = file_of(key, day)

    def save(columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> None:
        text = io.StringIO()
        writer = csv.writer(text)
        path.parent.mkdir(parents=True, exist_ok=True)
        if not path.exists():
            writer.writerow(columns)
        writer.writerows([[_cell(value) for value in row] for row in rows])
        with path.open("ab") as file:
            file.write(gzip.compress(text.getvalue().encode()))
            file.flush()
            os.fsync(file.fileno())

    return save


def saving_nowhere(columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> None:
    """Lets rows go without a file."""


def file_of(key: str, day: date) -> Path:
    """The file of what is deleted of a kind on a day."""
    return Path(settings.ARCHIVE_DIR) / f"{key}-{day.isoformat()}.csv.gz"


def _cell(value: Any) -> Any:
    if isinstance(value, datetime):
        return value.isoformat()
    return json.dumps(value, ensure_ascii=False) if isinstance(value, dict | list) else value
