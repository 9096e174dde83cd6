"""Writing many rows by COPY: several times as fast as INSERT."""

import json
from collections.abc import Sequence
from typing import Any

from django.db import connection, transaction
from django.db.models import JSONField, Model


def copy_rows(rows: Sequence[Model]) -> None:
    """Write new rows of one model, with every column as it is on the objects; ids are the database's."""
    if not rows:
        return
    meta = rows[0]._meta
    columns = [f for f in meta.concrete_fields if not f.primary_key]
    names = [f.attname for f in columns]
    documents = {index for index, f in enumerate(columns) if isinstance(f, JSONField)}
    quoted = ", ".join(connection.ops.quote_name(f.column) for f in columns)
    table = connection.ops.quote_name(meta.db_table)
    with (
        transaction.atomic(),
        connection.cursor() as cursor,
        cursor.copy(f"COPY {table} ({quoted}) FROM STDIN") as copy,
    ):
        for row in rows:
            copy.write_row([_cell(getattr(row, name), index in documents) for index, name in enumerate(names)])


def _cell(value: Any, is_document: bool) -> Any:
    return json.dumps(value) if is_document and value is not None else value
